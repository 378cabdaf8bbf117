#include "job/kit_fit.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/contains.hpp"
#include "base/text.hpp"
#include "job/phone_set.hpp"
#include "ramdisk/textfiles.hpp"

namespace wexlo {
namespace {

void problem(Prepared& out, std::string code, std::string message, std::string where) {
  out.findings.push_back({"problem", std::move(code), std::move(message), std::move(where)});
}

/// Of a boot or vendor_boot header; nullopt: another kind of image.
std::optional<unsigned> header_version(const LoadedImage* image) {
  if (image == nullptr || !image->image) return std::nullopt;
  const std::string_view kind = image->image->kind();
  if (kind != "boot" && kind != "vendor_boot") return std::nullopt;
  return image->image->layout().version;
}

/// The kernel's sibling tells; any image with a boot header will do.
std::optional<unsigned> boot_header_version(const StockImages& stock) {
  for (const char* name : {"boot", "init_boot", "recovery"})
    if (const auto at = stock.read().find(name); at != stock.read().end())
      if (const auto version = header_version(&at->second)) return version;
  return std::nullopt;
}

std::vector<std::string> chain_of(const StockImages& stock) {
  std::vector<std::string> out;
  for (const char* name : {"boot", "init_boot", "vendor_boot", "recovery", "vbmeta"})
    if (stock.has(name)) out.emplace_back(name);
  return out;
}

Result<FitGiven> fit_row_of(const Workbench& bench, const Given& given) {
  FitGiven out = fit_given(given);
  if (given.partition.empty()) {
    // A package that brings what the kit changes has to be the one that was patched.
    const auto& inside = given.firmware->partitions;
    out.of_the_build = std::ranges::any_of(inside, [](const PartitionFacts& one) {
      const std::string name(without_slot(one.name));
      return name == "boot" || name == "init_boot";
    });
    return out;
  }
  out.header_version = given.header_version;
  if (out.header_version && bench.stock.has(given.partition)) {
    WEXLO_TRY(const LoadedImage* const own, bench.stock.get(given.partition, bench.context));
    out.wanted_version = header_version(own);
  }
  return out;
}

}  // namespace

Status judge_fit(const Workbench& bench, std::vector<FitImage> images, Prepared& out) {
  const BuildFacts& build = out.build;
  FitFacts facts{.purpose = out.purpose,
                 .device = build.device,
                 .build = build.fingerprint,
                 .incremental = build.incremental,
                 .patch_level = build.patch_level,
                 .region = build.region,
                 .sdk = build.sdk_level,
                 .demands = build.demands,
                 .needs = {},
                 .architecture = bench.phone.architecture.empty() ? bench.phone.kernel_architecture
                                                                  : bench.phone.architecture,
                 .slotted = out.shape.slotted,
                 .rollback = {},
                 .anti_rollback = build.anti_rollback,
                 .header_version = boot_header_version(bench.stock),
                 .chain = chain_of(bench.stock),
                 .both_slots = out.slots == Slots::Both,
                 .images = std::move(images),
                 .given = {}};
  const Sheet none;
  const Sheet* sheet = bench.sheet();
  if (sheet != nullptr) WEXLO_CHECK(take_rollback(bench.stock.firmware(), facts, bench.context));
  for (const Recipe& recipe : bench.options.recipes)
    if (!recipe.phone_needs.empty()) facts.needs.emplace_back(recipe.name, recipe.phone_needs);
  for (const Given& one : bench.given) {
    WEXLO_TRY(FitGiven row, fit_row_of(bench, one));
    facts.given.push_back(std::move(row));
  }
  if (out.install) {
    WEXLO_TRY(FitGiven row, fit_row_of(bench, *out.install));
    facts.given.push_back(std::move(row));
  }
  out.fit = fit(facts, sheet == nullptr ? none : *sheet, bench.options.accept);
  if (sheet == nullptr)
    std::erase_if(out.fit, [](const FitRow& row) {
      return !row.code.starts_with("given-") && !row.code.starts_with("recipe-needs");
    });
  return {};
}

void choose_slots(const Workbench& bench, Prepared& out) {
  const bool slotted = out.shape.slotted.value_or(true);
  const bool elsewhere = out.install || out.purpose == Purpose::Update;
  if (bench.options.slots) {
    out.slots = *bench.options.slots;
    out.slots_reason = "as was asked for";
  } else if (const Sheet* sheet = bench.sheet();
             sheet != nullptr && !out.build.fingerprint.empty() &&
             sheet->text("build.fingerprint") == out.build.fingerprint &&
             sheet->text("build.other_slot") == out.build.fingerprint && !elsewhere) {
    out.slots = Slots::Both;
    out.slots_reason = "the sheet says that both slots have this very build";
  } else {
    out.slots = Slots::Current;
    out.slots_reason = "nothing says that the other slot has the same build";
  }
  if (!slotted) {
    out.slots = Slots::Current;
    out.slots_reason = "the phone has one";
  } else if (elsewhere && out.slots == Slots::Both) {
    out.slots = Slots::Current;
    out.slots_reason = "the other slot is written by what is installed";
  }
}

Status judge_origins(const Workbench& bench, Prepared& out) {
  for (const PreparedImage& one : out.images) {
    if (!one.flashed) continue;
    WEXLO_TRY(const LoadedImage* const twin, bench.stock.get(one.partition, bench.context));
    if (twin == nullptr) continue;
    WEXLO_TRY(const Judged judged, judge_image(*twin, {}, bench.context));
    if (judged.origin.word == "journaled")
      problem(out, "patched-" + one.partition,
              fmt::format("The firmware's {} is no stock image: {}. wexlo restore gives the stock "
                          "image again.",
                          one.partition, judged.origin.reason),
              one.partition);
    // With recipes it was refused, or allowed, when it was patched.
    if (judged.origin.word == "altered" && bench.options.stock)
      problem(out, "altered-" + one.partition,
              fmt::format("The firmware's {} shows another hand: {}.", one.partition,
                          fmt::join(judged.foreign, "; ")),
              one.partition);
  }
  return {};
}

Status judge_vouched(const Workbench& bench, Prepared& out) {
  PhoneSet set;
  for (const PartitionFacts& one : bench.stock.firmware().partitions) {
    const std::string name(without_slot(one.name));
    if (!name.starts_with("vbmeta") || one.size == 0) continue;
    const auto image = bench.stock.get(name, bench.context);
    if (!image && image.error().code == ErrorCode::Interrupted) return fail(image.error());
    // Where there are two of it, which one is meant was not asked.
    if (image && *image != nullptr) set.add(name, (*image)->bytes);
  }
  for (const PreparedImage& one : out.images) {
    if (!one.flashed || one.partition.starts_with("vbmeta")) continue;
    WEXLO_TRY(const LoadedImage* const twin, bench.stock.get(one.partition, bench.context));
    if (twin != nullptr) set.add(one.partition, twin->bytes);
  }
  WEXLO_TRY(const verified::Walk walk, walk_set(set, {.find = {}, .whole = false}, bench.context));
  for (const verified::ChainStruct& at : walk.structs)
    for (const verified::Claim& claim : at.claims) {
      if (claim.standing != verified::Standing::DigestMismatch ||
          contains(out.findings, "patched-" + claim.partition, &Finding::code))
        continue;
      // Nobody stands behind a struct without a signature: it may be a leftover itself.
      const bool is_signed = at.signature == verified::SignatureState::Holds;
      // Whoever patches on top of another hand's patch knows that vbmeta is not for it.
      const bool stops = is_signed && !bench.options.patch.onto_foreign;
      out.findings.push_back(
          {stops ? "problem" : "warning", "unvouched-" + claim.partition,
           fmt::format("The {}struct in {} vouches for another {} than the firmware has: it is of "
                       "another build, or was changed after that struct was made.",
                       is_signed ? "signed " : "", at.held_by, claim.partition),
           claim.partition});
    }
  return {};
}

void compare_with_older_kit(const Workbench& bench, Prepared& out) {
  if (bench.options.like_build.empty() || bench.options.like_build != out.build.fingerprint) return;
  for (const PreparedImage& one : out.images) {
    const auto known = bench.options.like_stock.find(one.partition);
    const auto own = bench.stock.read().find(one.partition);
    if (known == bench.options.like_stock.end() || own == bench.stock.read().end()) continue;
    const std::string sha256 = sha256_hex(own->second.bytes.view());
    if (sha256 == known->second) continue;
    problem(out, "another-" + one.partition,
            fmt::format("{} is not the one that the older kit was made of, and both are said to be "
                        "of the build {}: SHA-256 {}… there, {}… here.",
                        one.partition, out.build.fingerprint, known->second.substr(0, 16),
                        sha256.substr(0, 16)),
            one.partition);
  }
}

void place_in_super(const Workbench& bench, Prepared& out) {
  // Download mode writes the package's super whole: what the phone has in its own is gone then.
  const Sheet* sheet = out.shape.way == Way::Download ? nullptr : bench.sheet();
  out.super = super_facts(bench.stock.firmware(), sheet, out.shape.slotted.value_or(true));
  SuperFacts left = out.super;
  for (GivenPart& part : out.given) {
    const std::string& name = part.given.partition;
    part.logical = logical_name(left, name, bench.sheet());
    if (part.logical.empty()) continue;
    RoomPlan room = make_room(left, part.logical, align_up(part.given.size, 4096));
    if (!room.fits)
      problem(out, "no-room-" + name, room.why, part.logical);
    else if (room.steps.size() > 1)
      out.findings.push_back({"warning", "room-made", room.why, part.logical});
    left = after_room(std::move(left), room);
    out.rooms.push_back(std::move(room));
  }
  const bool system = std::ranges::any_of(
      out.given, [](const GivenPart& one) { return one.given.partition.starts_with("system"); });
  out.other_system = system || out.install.has_value();
  if (system && !bench.options.wipe)
    problem(out, "wipe-needed",
            "Another system cannot read the data of the one before it, and stops or loops at its "
            "first start: add --wipe when the owner agrees that the user's data is erased, or "
            "accept this to try without.",
            "system");
}

Status judge_mounts(const Workbench& bench, Prepared& out) {
  const verified::Walk& walk = out.verification.walk;
  if (walk.structs.empty() || walk.verification_disabled || walk.hashtrees_disabled) return {};
  std::set<std::string> verified;
  for (const char* name : {"boot", "init_boot", "vendor_boot"}) {
    const auto changed = std::ranges::find_if(
        out.images, [&](const PreparedImage& one) { return one.partition == name && one.flashed; });
    ImageFacts facts;
    if (changed != out.images.end()) {
      WEXLO_TRY(const LoadedImage image, load_image(changed->patched.bytes, name));
      WEXLO_TRY(facts, image_facts(image, name, bench.context));
    } else if (const auto at = std::ranges::find(out.chain, name, &ImageFacts::partition);
               at != out.chain.end()) {
      facts = *at;
    }
    for (const auto& [place, text] : facts.fstabs)
      for (const FstabRow& row : fstab_rows(text))
        if (row.verified) verified.insert(row.mount_point);
  }
  for (const GivenPart& part : out.given) {
    const std::string name(without_slot(part.given.partition));
    const bool mounted =
        verified.contains("/" + name) || (name == "system" && verified.contains("/"));
    if (mounted)
      problem(
          out, "not-vouched-" + name,
          fmt::format("{} is verified when it is mounted, and vbmeta vouches for the maker's, "
                      "not for this one: the start would stop there. Give a recipe that sets "
                      "the flag hashtree-disabled in vbmeta or drops avb at /{}, or a vbmeta of "
                      "your own with --with vbmeta=FILE.",
                      name, name),
          part.given.partition);
  }
  return {};
}

void settle(const PrepareOptions& options, Prepared& out) {
  for (Finding& one : out.findings) {
    if (one.level != "problem" || !contains(options.accept, one.code)) continue;
    one.level = "warning";
    one.message += " (accepted)";
    out.accepted.insert(one.code);
  }
  for (const FitRow& row : out.fit)
    if (row.accepted) out.accepted.insert(row.code);
  out.stopped =
      std::ranges::any_of(out.fit, stops) || contains(out.findings, "problem", &Finding::level);
}

void tell_unused(const PrepareOptions& options, Prepared& out) {
  for (const std::string& code : options.accept)
    if (!out.accepted.contains(code))
      out.findings.push_back({"note", "accept-unused",
                              fmt::format("--accept {}: there is no such finding.", code), ""});
}

}  // namespace wexlo
