/// What an edit says of itself: one line for people, a digest for the journal.

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "base/digest.hpp"
#include "recipe/recipe.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

struct Summary {
  std::string operator()(const PutEdit& put) const {
    return fmt::format("put {} at /{}{}", put.from, put.path,
                       put.keep_stock ? ", keeping the stock file" : "");
  }
  std::string operator()(const FstabDropEdit& drop) const {
    return fmt::format("drop fstab flags {} at {}", fmt::join(drop.flags, ", "),
                       drop.mount_point == "*" ? "every mount point" : drop.mount_point);
  }
  std::string operator()(const PropertyEdit& edit) const {
    std::string out;
    for (const auto& [key, value] : edit.values)
      out += fmt::format("{}{}={}", out.empty() ? "" : ", ", key, value);
    return fmt::format("set {} in /{}", out, edit.file);
  }
  std::string operator()(const VbmetaFlagsEdit& edit) const {
    const auto set = verified::flag_names(edit.set), clear = verified::flag_names(edit.clear);
    if (clear.empty()) return fmt::format("set vbmeta flags {}", fmt::join(set, ", "));
    if (set.empty()) return fmt::format("clear vbmeta flags {}", fmt::join(clear, ", "));
    return fmt::format("set vbmeta flags {}, clear {}", fmt::join(set, ", "),
                       fmt::join(clear, ", "));
  }
};

}  // namespace

std::string Edit::summary() const {
  return std::visit(Summary{}, what);
}

std::string Edit::digest() const {
  Hasher hasher(DigestKind::Sha256);
  // The summary holds every setting but these; NULs keep the pieces apart.
  hasher.update(as_view(kind));
  hasher.update(as_view(std::string(1, '\0') + summary()));
  if (const auto* put = std::get_if<PutEdit>(&what)) {
    const auto shown = [](const std::optional<std::uint32_t>& value) {
      return value ? fmt::format("{}", *value) : std::string("-");
    };
    hasher.update(
        as_view(fmt::format("\n{} {} {}\n", shown(put->mode), shown(put->uid), shown(put->gid))));
    hasher.update(put->content.view());
  }
  return hex(hasher.finish());
}

}  // namespace wexlo
