/// Whole parts, from a file or out of another image, and what makes that safe.

#include <fmt/format.h>

#include <algorithm>

#include "image/boot.hpp"
#include "image/device_tree.hpp"
#include "image/kernel.hpp"
#include "image/kernel_release.hpp"
#include "image/part_header.hpp"
#include "recipe/work.hpp"

namespace wexlo {
namespace {

constexpr std::string_view kTreesKept =
    "The new kernel has no device trees behind it: the stock ones were put there.";

/// The new part, and the image it came out of.
struct Brought {
  Blob bytes;
  std::optional<Image> image;
};

Error mismatch(const Work& work, std::string message, std::string expected, std::string found) {
  return {.code = ErrorCode::Mismatch,
          .message = fmt::format("recipe {}: {}", work.edit->recipe, message),
          .expected = std::move(expected),
          .found = std::move(found),
          .hint =
              "Take the part from a build that suits this one; other_version = true in the "
              "recipe allows another version."};
}

/// A boot-class image gives the part of that name; any other file is the part itself.
Result<Brought> bring(const Work& work, const PartEdit& edit) {
  const Blob& file = edit.from.blob();
  const auto known = identify_bytes(file.view());
  const std::string_view kind = known ? known->format->kind : "";
  if (kind != "boot" && kind != "vendor_boot") {
    if (edit.take.empty()) return Brought{file, {}};
    return fail({.code = ErrorCode::BadValue,
                 .message = fmt::format("recipe {} takes the {} out of {}, which is no boot image",
                                        work.edit->recipe, edit.take, edit.from.shown)});
  }
  WEXLO_TRY(LoadedImage loaded, load_image(file, edit.from.shown));
  const std::string part = edit.take.empty() ? edit.part : edit.take;
  Brought out{.image = std::move(loaded.image)};
  if (part == "ramdisk") {
    for (const boot::RamdiskPart& one : boot::ramdisk_parts(*out.image)) {
      const std::string& wanted = work.edit->fragment;
      if (wanted.empty() || wanted == one.name || wanted == boot::ramdisk_type_name(one.type)) {
        out.bytes = one.bytes;
        break;
      }
    }
  } else if (const Section* section = out.image->section(part)) {
    out.bytes = section->bytes;
  }
  if (!out.bytes.empty()) return out;
  return fail({.code = ErrorCode::BadValue,
               .message = fmt::format("recipe {}: the image has no {}", work.edit->recipe, part),
               .file = edit.from.shown,
               .hint = "wexlo inspect lists its parts."});
}

Result<Blob> fit_kernel(Work& work, const PartEdit& edit, const Blob& fresh, const Blob& stock) {
  const DecodeLimit limit = decode_limit(work.context);
  const kernel::Kernel now = kernel::read(fresh, limit), old = kernel::read(stock, limit);
  if (!now.trouble.empty())
    return fail({.code = ErrorCode::Corrupt,
                 .message = "the new kernel does not read: " + now.trouble,
                 .file = edit.from.shown});
  if (!now.architecture.empty() && !old.architecture.empty() &&
      now.architecture != old.architecture)
    return fail(mismatch(work, "the new kernel is for another processor", old.architecture,
                         now.architecture));
  const std::string series = kernel::series_of(now.release),
                    wanted = kernel::series_of(old.release);
  if (!edit.other_version && !series.empty() && !wanted.empty() && series != wanted)
    return fail(mismatch(work,
                         "the new kernel is of another series: the phone's modules are built for "
                         "the stock one",
                         wanted, series));
  if (now.release.empty() || old.release.empty())
    work.note("The kernels' versions could not be compared: one of them carries no banner.");
  else if (now.release != old.release)
    work.detail(fmt::format("kernel {} -> {}", old.release, now.release));
  if (!edit.as_it_is) {
    WEXLO_TRY(auto packed, kernel::packed_as_stock(stock, fresh, work.context));
    if (packed) {
      work.detail(fmt::format("kernel packed as {}, as the stock one", old.compression));
      if (now.trees.empty() && !old.trees.empty()) work.note(std::string(kTreesKept));
      return Blob(std::move(*packed));
    }
  }
  if (now.compression != old.compression)
    work.note(
        fmt::format("The new kernel is packed as {}, the stock one as {}: the loader has to "
                    "know both.",
                    now.compression, old.compression));
  Bytes out = to_bytes(fresh.view());
  const bool wrapped = part_header::looks_like(stock.view());
  if (part_header::looks_like(fresh.view()) && !wrapped)
    out = to_bytes(fresh.view().subspan(part_header::kSize));
  if (now.trees.empty() && !old.trees.empty()) {
    append(out, old.trees.view());
    work.note(std::string(kTreesKept));
  }
  if (wrapped && !part_header::looks_like(out)) {
    const Bytes body =
        std::exchange(out, part_header::renewed(stock.view().first(part_header::kSize),
                                                stock.size() - part_header::kSize, out.size()));
    append(out, View(body));
  }
  return Blob(std::move(out));
}

Status check_ramdisk(Work& work, const PartEdit& edit, const Brought& brought,
                     const Ramdisk& stock) {
  WEXLO_TRY(const Ramdisk fresh, parse_ramdisk(brought.bytes, decode_limit(work.context)));
  WEXLO_CHECK(check_places(fresh));
  const std::string machine = architecture_of(fresh), wanted = architecture_of(stock);
  if (!machine.empty() && !wanted.empty() && machine != wanted)
    return fail(mismatch(work, "the new ramdisk is for another processor", wanted, machine));
  const unsigned version = work.image.layout().version;
  constexpr unsigned kGenericFrom = 3;
  if (brought.image && !edit.other_version &&
      (brought.image->layout().version >= kGenericFrom) != (version >= kGenericFrom))
    return fail(mismatch(work, "the new ramdisk is from an image of another header generation",
                         fmt::format("version {}", version),
                         fmt::format("version {}", brought.image->layout().version)));
  for (const RamdiskSegment& segment : fresh.segments)
    if (segment.compression == Compression::Lz4Frame)
      return fail(mismatch(work, "the new ramdisk is packed in a way that no kernel reads",
                           std::string(compression_name(stock.compression())), "lz4-frame"));
  if (fresh.compression() != stock.compression())
    work.note(
        fmt::format("The new ramdisk is packed as {}, the stock one as {}: the kernel has "
                    "to know both.",
                    compression_name(fresh.compression()), compression_name(stock.compression())));
  if (find_entry(stock, "init") && !find_entry(fresh, "init"))
    return fail(
        mismatch(work, "the new ramdisk has no /init, where the stock one has", "/init", "none"));
  if (has_recovery(stock) && !has_recovery(fresh))
    work.note("The stock ramdisk holds recovery, the new one does not: the phone has none then.");
  return {};
}

Status check_trees(const Work& work, const PartEdit& edit, const Blob& fresh, const Blob& stock) {
  const auto now = dt::blobs(fresh), old = dt::blobs(stock);
  if (dt::form_of(fresh.view()) != dt::form_of(stock.view()) || now.empty())
    return fail(mismatch(work, "the new part holds device trees in another form, or none",
                         std::string(dt::form_name(dt::form_of(stock.view()))),
                         std::string(dt::form_name(dt::form_of(fresh.view())))));
  std::set<std::string> wanted;
  for (const dt::DtBlob& tree : old)
    wanted.insert(tree.facts.compatible.begin(), tree.facts.compatible.end());
  const bool known = std::ranges::any_of(now, [&](const dt::DtBlob& tree) {
    return std::ranges::any_of(tree.facts.compatible,
                               [&](const std::string& word) { return wanted.contains(word); });
  });
  if (known || edit.other_version || wanted.empty()) return {};
  return fail(mismatch(work, "no device tree of the new part is for this phone", *wanted.begin(),
                       now.front().facts.compatible.empty()
                           ? "no compatible"
                           : now.front().facts.compatible.front()));
}

Result<Outcome> put_ramdisk(Work& work, const PartEdit& edit, const Brought& brought) {
  OpenRamdisk& one = *work.opened;
  if (equal(one.part.bytes.view(), brought.bytes.view()) && !one.replaced)
    return Outcome::AlreadyDone;
  WEXLO_CHECK(check_ramdisk(work, edit, brought, one.ramdisk));
  work.tell(one.part.title(), one.part.bytes.view(), brought.bytes.view());
  work.detail(fmt::format("{}: {} -> {} bytes", one.part.title(), one.part.bytes.size(),
                          brought.bytes.size()));
  const std::size_t index = one.part.index;
  WEXLO_CHECK(boot::replace_ramdisk(work.image, index, brought.bytes));
  for (const boot::RamdiskPart& part : boot::ramdisk_parts(work.image))
    if (part.index == index) one.part = part;
  WEXLO_TRY(one.ramdisk, parse_ramdisk(brought.bytes, decode_limit(work.context)));
  one.meant.clear();
  one.replaced = true;
  work.intent.replaced_ramdisks[index] = brought.bytes;
  return Outcome::Applied;
}

}  // namespace

Result<Outcome> apply(Work& work, const PartEdit& edit) {
  WEXLO_TRY(const Brought brought, bring(work, edit));
  if (edit.part == "ramdisk") return put_ramdisk(work, edit, brought);
  const Section* section = work.image.section(edit.part);
  if (section == nullptr || section->bytes.empty()) return Outcome::NoMatch;
  const Blob stock = section->bytes;
  Blob fresh = brought.bytes;
  if (edit.part == "kernel") {
    WEXLO_TRY(fresh, fit_kernel(work, edit, fresh, stock));
  } else if (edit.part == "dtb" || edit.part == "dt") {
    WEXLO_CHECK(check_trees(work, edit, fresh, stock));
  }
  if (equal(fresh.view(), stock.view())) return Outcome::AlreadyDone;
  WEXLO_CHECK(work.image.replace(edit.part, fresh));
  work.intent.replaced[edit.part] = fresh;
  if (edit.part == "kernel") {
    work.intent.kernel.clear();
    work.intent.kernel_size.reset();
  }
  std::erase_if(work.intent.trees, [&](const auto& tree) { return tree.first.first == edit.part; });
  work.detail(fmt::format("{}: {} -> {} bytes", edit.part, stock.size(), fresh.size()));
  work.tell(edit.part, stock.view(), fresh.view());
  return Outcome::Applied;
}

}  // namespace wexlo
