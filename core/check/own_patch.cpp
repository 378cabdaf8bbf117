#include "check/own_patch.hpp"

#include <algorithm>

#include "recipe/journal.hpp"
#include "recipe/restore.hpp"

namespace wexlo {
namespace {

bool has_journal(const Subject& one) {
  return std::ranges::any_of(one.reading.ramdisks, [](const ReadRamdisk& ramdisk) {
    const auto journal =
        ramdisk.ramdisk ? read_journal(*ramdisk.ramdisk) : Result<std::optional<Journal>>{};
    return journal && *journal;
  });
}

/// The signature is valid for the struct with other flags.
bool has_changed_flags(const Subject& one, const Context& context) {
  if (one.image() == nullptr || one.image()->kind() != "vbmeta") return false;
  const auto flags = one.image()->number("flags");
  if (flags == 0) return false;
  const auto restored = restore_image(*one.loaded, {}, context);
  return restored && restored->from == RestoredFrom::Signature;
}

}  // namespace

bool carries_own_patch(const Subject& one, const Context& context) {
  return has_journal(one) || has_changed_flags(one, context);
}

}  // namespace wexlo
