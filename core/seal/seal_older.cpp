#include "seal/seal_older.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "firmware/formats.hpp"
#include "judge/subject.hpp"

namespace wexlo {

Result<SourcePtr> seal_older(const SealInput& input, const SealOptions& options,
                             SealedImage& sealed, std::vector<Finding>& findings) {
  if (!is_boot_class(input.partition) || input.source->size() > kMaxOlder) return input.source;
  const auto loaded = load_image(*input.source);
  if (!loaded || !loaded->image) return input.source;
  const View bytes = loaded->bytes.view();
  const std::uint64_t end = loaded->image->sections_end();
  const auto found = verified::older_signature(bytes.subspan(end), bytes.first(end));
  if (options.older == OlderSignature::Keep) {
    if (found) {
      sealed.done.push_back(
          fmt::format("older signature kept, {}", found->holds ? "and valid" : "though not valid"));
      if (!found->holds)
        findings.push_back(
            {Level::Warning, FindingCode::OlderSignature,
             "The older boot signature is not valid for the image: an unlocked phone passes over "
             "it.",
             input.partition});
    }
    return input.source;
  }
  const std::size_t size = found ? found->size : 0;
  Bytes out = to_bytes(bytes.first(end));
  if (options.older == OlderSignature::Remake) {
    const std::string target = found ? found->target : "/" + input.partition;
    WEXLO_TRY(const Bytes made,
              verified::make_older_signature(bytes.first(end), target, options.older_key,
                                             options.older_certificate));
    append(out, View(made));
    sealed.done.push_back(fmt::format("older signature made again for {}", target));
  } else if (found) {
    sealed.done.emplace_back("older signature taken out");
  }
  View rest = bytes.subspan(end + size);
  const auto footer = verified::find_footer(bytes);
  if (footer && *footer) {
    // The footer is written anew: what was behind the image is its own again.
    rest = {};
    out.resize(align_up(out.size(), verified::kHashBlock));
  }
  // Padding shrinks or grows with the signature, so that the file's size stays where it can.
  const std::size_t wanted = bytes.size() - (footer && *footer ? bytes.size() - out.size() : 0);
  if (!rest.empty() && all_bytes(rest, rest.front()))
    out.resize(std::max(out.size(), wanted), rest.front());
  else
    append(out, rest);
  return open_memory(Blob(std::move(out)), input.source->name());
}

}  // namespace wexlo
