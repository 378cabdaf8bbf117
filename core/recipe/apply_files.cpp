/// Edits of whole files in a ramdisk.

#include <fmt/format.h>

#include <algorithm>

#include "codec/settings.hpp"
#include "recipe/work.hpp"

namespace wexlo {
namespace {

using newc::Entry;
using CpioField = newc::Field;

constexpr std::uint32_t kUsualMode = 0644, kProgramMode = 0750, kFolderMode = 0755,
                        kPermissions = 07777;

/// A program has to be for a processor that the phone's kernel runs.
Status check_processor(Work& work, const std::string& place, View content, bool any_processor) {
  const std::string machine = elf_architecture(content);
  const PhoneFacts& phone = work.phone;
  if (machine.empty() || any_processor || machine == phone.architecture) return {};
  // A 64-bit kernel runs programs of both widths; what takes init's place has to be of init's.
  const std::string& kernel = work.kernel_architecture();
  if (phone.architecture.empty() && (kernel.empty() || machine == kernel)) return {};
  const bool other_width = machine == kernel ||
                           (machine == "arm" && phone.architecture == "arm64") ||
                           (machine == "x86" && phone.architecture == "x86_64");
  if (other_width && place != "init") return {};
  return fail({.code = ErrorCode::Mismatch,
               .message = fmt::format("recipe {} puts a program for another processor at /{}",
                                      work.edit->recipe, place),
               .expected = phone.architecture.empty() ? kernel : phone.architecture,
               .found = machine,
               .hint = "Take the build of it for this phone; any_processor = true in the recipe "
                       "allows it."});
}

Error folder_in_the_way(const std::string& place) {
  return {.code = ErrorCode::BadValue,
          .message = fmt::format("cannot put a file at /{}: a folder is there", place),
          .hint = "Choose another path in the recipe."};
}

struct NewFile {
  std::string place;
  std::uint32_t type = newc::Regular;
  Blob content;  ///< a link's target
  Access access;
  KeepStock keep_stock{};
  std::string cause;
};

/// Puts one file or link in place, over what may be there.
Result<Outcome> place_file(Work& work, const NewFile& file) {
  Ramdisk& ramdisk = work.ramdisk();
  const auto at = find_entry(ramdisk, file.place);
  const bool link = file.type == newc::Symlink;
  const std::string what = link ? "link" : "file";
  if (!at) {
    const std::uint32_t mode = link ? 0777 : file.access.mode.value_or(kUsualMode);
    Entry entry = Entry::make(file.place, file.type | mode, file.content);
    entry.set(CpioField::Uid, file.access.uid.value_or(0));
    entry.set(CpioField::Gid, file.access.gid.value_or(0));
    work.detail(link ? fmt::format("added /{} -> {}", file.place, as_text(file.content.view()))
                     : fmt::format("added /{} ({} bytes, mode {:04o})", file.place,
                                   file.content.size(), mode));
    WEXLO_CHECK(work.add(std::move(entry), file.cause));
    work.tell("/" + file.place, std::nullopt, file.content.view());
    return Outcome::Applied;
  }
  const Entry& old = entry_at(ramdisk, *at);
  if (old.type() == newc::Directory) return fail(folder_in_the_way(file.place));
  const bool alike = old.type() == file.type;
  const std::uint32_t mode =
      link ? 0777 : file.access.mode.value_or(alike ? old.mode() & kPermissions : kUsualMode);
  const std::uint32_t uid = file.access.uid.value_or(old.get(CpioField::Uid));
  const std::uint32_t gid = file.access.gid.value_or(old.get(CpioField::Gid));
  const Blob before = content_of(ramdisk, *at);
  if (alike && equal(before.view(), file.content.view()) &&
      (link || (old.mode() & kPermissions) == mode) && old.get(CpioField::Uid) == uid &&
      old.get(CpioField::Gid) == gid)
    return Outcome::AlreadyDone;
  if (file.keep_stock.kept) WEXLO_CHECK(work.keep_stock_file(file.place, *at, file.keep_stock));
  detach_links(ramdisk, *at);
  Entry& entry = edit_entry(ramdisk, *at);
  const std::uint32_t old_mode = entry.mode() & kPermissions;
  work.detail(fmt::format("replaced /{} ({} -> {} bytes, {})", file.place, before.size(),
                          file.content.size(),
                          old_mode == mode ? fmt::format("mode {:04o}", mode)
                                           : fmt::format("mode {:04o} -> {:04o}", old_mode, mode)));
  entry.set(CpioField::Mode, file.type | mode);
  entry.set(CpioField::Uid, uid);
  entry.set(CpioField::Gid, gid);
  entry.set(CpioField::RdevMajor, 0);
  entry.set(CpioField::RdevMinor, 0);
  entry.set_data(file.content);
  work.intend(file.place, file.content.view(), file.cause);
  work.tell("/" + file.place, before.view(), file.content.view());
  return Outcome::Applied;
}

std::string access_text(const Entry& entry) {
  return fmt::format("mode {:04o}, owner {}:{}", entry.mode() & kPermissions,
                     entry.get(CpioField::Uid), entry.get(CpioField::Gid));
}

}  // namespace

std::uint32_t usual_mode(View content) {
  const bool program = !elf_architecture(content).empty() || as_text(content).starts_with("#!");
  return program ? kProgramMode : kUsualMode;
}

Result<Blob> packed_file(const Blob& content, FilePack pack, const Context& context) {
  if (pack == FilePack::None) return content;
  const Framing framing = pack == FilePack::Xz ? xz_framing_for(content.size()) : Framing{};
  WEXLO_TRY(Bytes packed, encode(pack == FilePack::Xz ? Compression::Xz : Compression::Gzip,
                                 content.view(), framing, context));
  return Blob(std::move(packed));
}

Result<Outcome> apply(Work& work, const PutEdit& edit) {
  const Blob plain = edit.text ? Blob(to_bytes(*edit.text)) : edit.from.blob();
  WEXLO_CHECK(check_processor(work, edit.path, plain.view(), edit.any_processor));
  WEXLO_TRY(const Blob content, packed_file(plain, edit.pack, work.context));
  return place_file(
      work, {edit.path, newc::Regular, content, edit.access, edit.keep_stock, "put by a recipe"});
}

Result<Outcome> apply(Work& work, const FolderEdit& edit) {
  Ramdisk& ramdisk = work.ramdisk();
  if (const auto at = find_entry(ramdisk, edit.path)) {
    if (entry_at(ramdisk, *at).type() == newc::Directory)
      return edit.access.mode || edit.access.uid || edit.access.gid
                 ? apply(work, ChmodEdit{edit.path, edit.access})
                 : Outcome::AlreadyDone;
    return fail(
        {.code = ErrorCode::BadValue,
         .message = fmt::format("cannot make the folder /{}: something else is there", edit.path),
         .hint = "Remove it first in the recipe, or choose another place."});
  }
  const std::uint32_t mode = edit.access.mode.value_or(kFolderMode);
  Entry entry = Entry::make(edit.path, newc::Directory | mode, {});
  entry.set(CpioField::Uid, edit.access.uid.value_or(0));
  entry.set(CpioField::Gid, edit.access.gid.value_or(0));
  work.detail(fmt::format("added the folder /{}, {}", edit.path, access_text(entry)));
  WEXLO_CHECK(work.add(std::move(entry), "made by a recipe"));
  work.tell("/" + edit.path, "(none)", "a folder");
  return Outcome::Applied;
}

Result<Outcome> apply(Work& work, const PutTreeEdit& edit) {
  Outcome outcome = Outcome::AlreadyDone;
  for (const NamedFile& file : edit.from.files) {
    const std::string place = newc::place_of(edit.path + "/" + file.path);
    WEXLO_CHECK(check_processor(work, place, file.content.view(), edit.any_processor));
    Access access = edit.access;
    if (!access.mode) access.mode = usual_mode(file.content.view());
    WEXLO_TRY(const Outcome one,
              place_file(work, {place, newc::Regular, file.content, access,
                                KeepStock{edit.keep_stock, {}, {}}, "put by a recipe"}));
    if (one == Outcome::Applied) outcome = one;
  }
  return outcome;
}

Result<Outcome> apply(Work& work, const LinkEdit& edit) {
  return place_file(work, {edit.path,
                           newc::Symlink,
                           Blob(to_bytes(edit.target)),
                           {},
                           KeepStock{edit.keep_stock, {}, {}},
                           "linked by a recipe"});
}

Result<Outcome> apply(Work& work, const RemoveEdit& edit) {
  Ramdisk& ramdisk = work.ramdisk();
  const auto at = find_entry(ramdisk, edit.path);
  if (!at) return Outcome::NoMatch;
  const bool folder = entry_at(ramdisk, *at).type() == newc::Directory;
  const Blob before = content_of(ramdisk, *at);
  if (edit.keep_stock && folder)
    return fail(
        {.code = ErrorCode::BadValue,
         .message = fmt::format("/{} is a folder: keep_stock keeps single files", edit.path),
         .hint = "Leave keep_stock out: the journal has what is needed for the way back."});
  if (edit.keep_stock) WEXLO_CHECK(work.keep_stock_file(edit.path, *at));
  const std::size_t known = work.opened->meant.size();
  work.erase(edit.path, "removed by a recipe");
  const std::size_t count = work.opened->meant.size() - known;
  work.detail(folder && count > 1
                  ? fmt::format("removed /{} and the {} entries below it", edit.path, count - 1)
                  : fmt::format("removed /{}", edit.path));
  work.tell("/" + edit.path, before.view(), std::nullopt);
  return Outcome::Applied;
}

Result<Outcome> apply(Work& work, const MoveEdit& edit) {
  Ramdisk& ramdisk = work.ramdisk();
  if (!find_entry(ramdisk, edit.path)) return Outcome::NoMatch;
  if (find_entry(ramdisk, edit.to))
    return fail(
        {.code = ErrorCode::BadValue,
         .message = fmt::format("cannot move /{} to /{}: something is there", edit.path, edit.to),
         .hint = "Remove it first in the recipe, or choose another place."});
  // Taken out and added behind all others: a folder has to come before what is in it.
  std::vector<std::pair<std::string, Entry>> moved;
  for (std::size_t s = 0; s < ramdisk.segments.size(); ++s)
    for (const Entry& entry : ramdisk.segments[s].archive.entries) {
      const std::string place = newc::place_of(entry.name());
      const bool mine = place == edit.path || place.starts_with(edit.path + "/");
      if (entry.is_trailer() || !mine) continue;
      const auto last = find_entry(ramdisk, place);
      if (&entry_at(ramdisk, *last) != &entry) continue;  // a later one takes its place
      Entry copy = entry;
      if (entry.type() == newc::Regular) copy.set_data(content_of(ramdisk, *last));
      moved.emplace_back(edit.to + place.substr(edit.path.size()), std::move(copy));
    }
  work.erase(edit.path, "moved by a recipe");
  for (const auto& [place, entry] : moved) {
    Entry fresh = Entry::make(place, entry.mode(), entry.data());
    for (const CpioField field :
         {CpioField::Uid, CpioField::Gid, CpioField::RdevMajor, CpioField::RdevMinor})
      fresh.set(field, entry.get(field));
    WEXLO_CHECK(work.add(std::move(fresh), "moved by a recipe"));
    edit_entry(ramdisk, *find_entry(ramdisk, place))
        .set(CpioField::Mtime, entry.get(CpioField::Mtime));
  }
  work.detail(fmt::format("moved /{} to /{}{}", edit.path, edit.to,
                          moved.size() > 1 ? fmt::format(", {} entries", moved.size()) : ""));
  work.tell("/" + edit.path, "here", "moved to /" + edit.to);
  work.tell("/" + edit.to, "(none)", "moved from /" + edit.path);
  return Outcome::Applied;
}

Result<Outcome> apply(Work& work, const ChmodEdit& edit) {
  Ramdisk& ramdisk = work.ramdisk();
  const auto at = find_entry(ramdisk, edit.path);
  if (!at) return Outcome::NoMatch;
  const Entry& old = entry_at(ramdisk, *at);
  const std::uint32_t mode = edit.access.mode.value_or(old.mode() & kPermissions);
  const std::uint32_t uid = edit.access.uid.value_or(old.get(CpioField::Uid));
  const std::uint32_t gid = edit.access.gid.value_or(old.get(CpioField::Gid));
  if ((old.mode() & kPermissions) == mode && old.get(CpioField::Uid) == uid &&
      old.get(CpioField::Gid) == gid)
    return Outcome::AlreadyDone;
  const std::string before = access_text(old);
  detach_links(ramdisk, *at);
  Entry& entry = edit_entry(ramdisk, *at);
  entry.set(CpioField::Mode, entry.type() | mode);
  entry.set(CpioField::Uid, uid);
  entry.set(CpioField::Gid, gid);
  work.intend(edit.path, content_of(ramdisk, *at).view(), "access set by a recipe");
  work.detail(fmt::format("/{}: {} -> {}", edit.path, before, access_text(entry)));
  work.tell("/" + edit.path + " (access)", before, access_text(entry));
  return Outcome::Applied;
}

}  // namespace wexlo
