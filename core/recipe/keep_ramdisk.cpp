/// Keeping a kernel from passing this image's ramdisk over: the word for it stands in the kernel,
/// in the command line that the header brings, or in the arguments of a device tree; or the loader
/// adds it. A kernel that knows another word in its place takes no notice of it.

#include <fmt/format.h>

#include <algorithm>

#include "base/error_kinds.hpp"
#include "image/boot.hpp"
#include "image/device_tree.hpp"
#include "image/kernel.hpp"
#include "recipe/work.hpp"

namespace wexlo {
namespace {

using kernel::kKeepWord;
using kernel::kSkipWord;

/// All whole occurrences; nullopt: there is none.
std::optional<std::string> replaced(std::string_view text) {
  const auto places = kernel::whole_words(as_view(text), kSkipWord);
  if (places.empty()) return std::nullopt;
  std::string out(text);
  for (const std::size_t at : places)
    out.replace(at, kSkipWord.size(), kKeepWord);
  return out;
}

Result<Outcome> in_kernel(Work& work, bool needed) {
  const Section* section = work.image.section("kernel");
  if (section == nullptr || section->bytes.empty()) return Outcome::NoMatch;
  auto body = kernel::open_body(section->bytes, decode_limit(work.context));
  // Forms that cannot be put together again matter where the ramdisk is known to be passed over.
  if (!body && (needed || is_of_this_run(body.error().code))) return fail(std::move(body).error());
  if (!body) return Outcome::NoMatch;
  const View bytes = body->decoded.view();
  const auto places = kernel::whole_words(bytes, kSkipWord);
  if (places.empty()) {
    if (!kernel::whole_words(bytes, kKeepWord).empty()) return Outcome::AlreadyDone;
    const std::string other = kernel::other_ramdisk_word(bytes);
    if (other.empty()) return Outcome::NoMatch;
    work.detail(fmt::format("the kernel has \"{}\" in its place: another tool did so", other));
    return Outcome::AlreadyDone;
  }
  return put_in_kernel(work, *body, places,
                       {.find = to_bytes(kSkipWord),
                        .replace = to_bytes(kKeepWord),
                        .count = std::nullopt,
                        .shown = fmt::format("\"{}\" by \"{}\"", kSkipWord, kKeepWord)});
}

Result<Outcome> in_cmdline(Work& work) {
  const std::string before = boot::cmdline(work.image);
  const auto after = replaced(before);
  if (!after) return Outcome::NoMatch;
  WEXLO_CHECK(put_cmdline(work, before, *after));
  work.tell(fmt::format("cmdline {}", kSkipWord), std::string(kSkipWord), std::string(kKeepWord));
  return Outcome::Applied;
}

Result<Outcome> in_trees(Work& work) {
  const auto one = [&](const TreeAt& at, const Blob& tree) -> Result<dt::TreeEdit> {
    const auto properties = dt::flattened(tree.view());
    const auto arguments = properties.find("/chosen:bootargs");
    const auto after =
        arguments == properties.end() ? std::nullopt : replaced(as_text(arguments->second));
    if (!after) return dt::TreeEdit{};
    return set_tree_property(work, at, tree, "/chosen", "bootargs", to_bytes(*after));
  };
  return each_tree(work, {}, false, one);
}

}  // namespace

Result<Outcome> keep_ramdisk(Work& work, bool needed) {
  WEXLO_TRY(const Outcome kernel, in_kernel(work, needed));
  WEXLO_TRY(const Outcome line, in_cmdline(work));
  WEXLO_TRY(const Outcome trees, in_trees(work));
  for (const Outcome outcome : {Outcome::Applied, Outcome::AlreadyDone})
    for (const Outcome one : {kernel, line, trees})
      if (one == outcome) return outcome;
  return Outcome::NoMatch;
}

}  // namespace wexlo
