/// Fragments of vendor_boot, added and taken out.

#include <fmt/format.h>

#include <algorithm>

#include "codec/codec.hpp"
#include "image/fragments.hpp"
#include "recipe/journal.hpp"
#include "recipe/work.hpp"

namespace wexlo {
namespace {

/// A ramdisk of a folder's files, packed as the others of the image are.
Result<Blob> ramdisk_of_folder(Work& work, const FileRef& folder) {
  const Compression compression = work.ramdisks.front().ramdisk.compression();
  newc::Archive archive;
  archive.entries.push_back(newc::Entry::make(std::string(newc::kTrailer), 0, {}));
  Ramdisk made;
  made.segments.push_back({.compression = Compression::None, .archive = std::move(archive)});
  for (const NamedFile& file : folder.files) {
    const std::string place = newc::place_of(file.path);
    const std::uint32_t mode = newc::Regular | usual_mode(file.content.view());
    auto added = add_entry(made, newc::Entry::make(place, mode, file.content));
    if (!added) return fail(std::move(added).error());
  }
  const Bytes plain = newc::write(made.segments.front().archive);
  if (compression == Compression::None) return Blob(Bytes(plain));
  WEXLO_TRY(Bytes packed, encode(compression, plain, {}, work.context));
  return Blob(std::move(packed));
}

/// The image's parts moved: what is held of them follows.
void refresh_parts(Work& work) {
  const auto parts = boot::ramdisk_parts(work.image);
  for (std::size_t i = 0; i < work.ramdisks.size() && i < parts.size(); ++i)
    work.ramdisks[i].part = parts[i];
}

/// From here on it is told which stock fragment each one was.
std::vector<std::optional<std::size_t>>& origins(Work& work) {
  auto& out = work.intent.fragments;
  if (!out) {
    out.emplace();
    for (std::size_t i = 0; i < boot::ramdisk_parts(work.image).size(); ++i)
      out->emplace_back(i);
  }
  return *out;
}

/// Everything by index behind a fragment that is gone moves up.
template <class Map>
void close_gap(Map& map, std::size_t gone) {
  Map out;
  for (auto& [index, value] : map)
    if (index != gone) out.emplace(index > gone ? index - 1 : index, std::move(value));
  map = std::move(out);
}

Result<Outcome> add(Work& work, const FragmentEdit& edit, const Blob& bytes,
                    const std::string& title) {
  auto ramdisk = parse_ramdisk(bytes, decode_limit(work.context));
  if (!ramdisk) return fail(in_file(std::move(ramdisk).error(), edit.from.shown));
  WEXLO_CHECK(check_places(*ramdisk));
  const std::size_t index = work.ramdisks.size();
  origins(work).emplace_back(std::nullopt);
  WEXLO_CHECK(boot::add_fragment(work.image, edit.key, bytes.view()));
  work.intent.added[index] = edit.key;
  work.intent.replaced_ramdisks[index] = bytes;
  OpenRamdisk& one = work.ramdisks.emplace_back();
  one.ramdisk = std::move(*ramdisk);
  one.replaced = true;
  refresh_parts(work);
  work.detail(fmt::format("added {}, {} bytes", title, bytes.size()));
  work.tell(title, std::nullopt, bytes.view());
  return Outcome::Applied;
}

Result<Outcome> remove(Work& work, std::size_t index, const std::string& title) {
  const Blob gone = work.ramdisks[index].part.bytes;
  auto& from = origins(work);
  if (auto removed = boot::remove_fragment(work.image, index); !removed) {
    Error error = std::move(removed).error();
    error.message = fmt::format("recipe {}: {}", work.edit->recipe, error.message);
    error.expected = "another fragment beside it";
    error.found = title + " alone";
    error.hint =
        "A vendor_boot needs one: put another in first, or replace it with kind = \"part\".";
    return fail(std::move(error));
  }
  from.erase(from.begin() + static_cast<std::ptrdiff_t>(index));
  close_gap(work.intent.added, index);
  close_gap(work.intent.replaced_ramdisks, index);
  work.ramdisks.erase(work.ramdisks.begin() + static_cast<std::ptrdiff_t>(index));
  refresh_parts(work);
  work.detail(fmt::format("took out {}, {} bytes", title, gone.size()));
  work.tell(title, gone.view(), std::nullopt);
  return Outcome::Applied;
}

}  // namespace

Result<Outcome> apply(Work& work, const FragmentEdit& edit) {
  // Without all of them nothing tells which is which.
  if (work.ramdisks.empty() || work.ramdisks.size() != boot::ramdisk_parts(work.image).size() ||
      !work.ramdisks.front().part.in_table)
    return fail({.code = ErrorCode::Unsupported,
                 .message = fmt::format("recipe {}: this image has no table of fragments, or one "
                                        "of them does not read",
                                        work.edit->recipe),
                 .expected = "vendor_boot of header version 4",
                 .found = fmt::format("{} of header version {}", work.image.kind(),
                                      work.image.layout().version),
                 .hint = "Name the partition or a header_version in `when`."});
  const auto at = std::ranges::find_if(work.ramdisks, [&](const OpenRamdisk& one) {
    return boot::fragment_key(one.part) == edit.key;
  });
  const std::string title = fmt::format("vendor_ramdisk fragment \"{}\" ({})", edit.key.name,
                                        boot::ramdisk_type_name(edit.key.type));
  const auto index = static_cast<std::size_t>(at - work.ramdisks.begin());
  if (edit.remove) return at == work.ramdisks.end() ? Outcome::NoMatch : remove(work, index, title);
  // What is in one that was put in on an earlier run may have been edited since.
  if (at != work.ramdisks.end() && work.is_known) return Outcome::AlreadyDone;
  Blob bytes;
  if (edit.from.is_tree) {
    WEXLO_TRY(bytes, ramdisk_of_folder(work, edit.from));
  } else {
    bytes = edit.from.blob();
  }
  if (at == work.ramdisks.end()) return add(work, edit, bytes, title);
  if (equal(at->part.bytes.view(), bytes.view())) return Outcome::AlreadyDone;
  return fail({.code = ErrorCode::BadValue,
               .message = fmt::format("recipe {}: there is a {} already, with something else in it",
                                      work.edit->recipe, title),
               .expected = edit.from.shown,
               .found = fmt::format("{} bytes of other content", at->part.bytes.size()),
               .hint = "Give it another name, or put the ramdisk in with kind = \"part\"."});
}

}  // namespace wexlo
