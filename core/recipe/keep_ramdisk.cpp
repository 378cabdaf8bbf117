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
  Bytes fresh = to_bytes(bytes);
  for (const std::size_t at : places) {
    std::ranges::copy(as_view(kKeepWord), fresh.begin() + static_cast<std::ptrdiff_t>(at));
    work.intent.kernel.push_back({at, kKeepWord.size(), "bytes replaced by a recipe"});
    work.detail(fmt::format("kernel at 0x{:x} (unpacked)", at));
    work.tell(fmt::format("kernel 0x{:x}", at), std::string(kSkipWord), std::string(kKeepWord));
  }
  WEXLO_TRY(Bytes packed,
            kernel::with_body(section->bytes, *body, Blob(std::move(fresh)), work.context));
  WEXLO_CHECK(work.image.replace("kernel", Blob(std::move(packed))));
  return Outcome::Applied;
}

Result<Outcome> in_cmdline(Work& work) {
  const std::string before = boot::cmdline(work.image);
  const auto after = replaced(before);
  if (!after) return Outcome::NoMatch;
  WEXLO_CHECK(boot::set_cmdline(work.image, *after));
  for (const char* field : {"cmdline", "extra_cmdline"})
    work.intent.fields[field] = "command line edited by a recipe";
  work.detail(fmt::format("command line: {} -> {}", before, *after));
  work.tell(fmt::format("cmdline {}", kSkipWord), std::string(kSkipWord), std::string(kKeepWord));
  return Outcome::Applied;
}

Result<Outcome> in_trees(Work& work) {
  constexpr const char* kNode = "/chosen";
  constexpr const char* kProperty = "bootargs";
  const std::string key = fmt::format("{}:{}", kNode, kProperty);
  bool changed = false;
  for (const TreePlace& place : tree_places(work.image, decode_limit(work.context))) {
    const auto trees = dt::blobs(place.bytes);
    std::map<std::size_t, Blob> fresh;
    for (std::size_t i = 0; i < trees.size(); ++i) {
      const View tree = trees[i].fdt.view();
      if (!dt::is_editable(tree)) continue;
      const auto properties = dt::flattened(tree);
      const auto at = properties.find(key);
      const auto after = at == properties.end() ? std::nullopt : replaced(as_text(at->second));
      if (!after) continue;
      WEXLO_TRY(const dt::TreeEdit done,
                dt::set_property(tree, kNode, kProperty, to_bytes(*after)));
      fresh[i] = done.fdt;
      const std::string where = fmt::format("{} device tree {} {}", place.section, i, key);
      work.intent.trees[{place.section, i}][key] = "set by a recipe";
      work.detail(fmt::format("{}: {} -> {}", where, kSkipWord, kKeepWord));
      work.tell(where, std::string(kSkipWord), std::string(kKeepWord));
    }
    if (fresh.empty()) continue;
    changed = true;
    WEXLO_CHECK(put_trees(work, place, fresh));
  }
  return changed ? Outcome::Applied : Outcome::NoMatch;
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
