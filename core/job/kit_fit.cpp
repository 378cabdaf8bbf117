#include "job/kit_fit.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/contains.hpp"
#include "base/error_kinds.hpp"
#include "judge/phone_set.hpp"
#include "ramdisk/textfiles.hpp"
#include "text/text.hpp"

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
  for (const PartitionRow& row : partition_rows())
    if (const auto at = stock.read().find(std::string(row.name));
        row.image == "boot" && at != stock.read().end())
      if (const auto version = header_version(&at->second)) return version;
  return std::nullopt;
}

std::vector<std::string> chain_of(const StockImages& stock) {
  std::vector<std::string> out;
  for (const std::string_view name : ramdisk_partitions(RamdiskOrder::Told))
    if (stock.has(std::string(name))) out.emplace_back(name);
  if (stock.has("vbmeta")) out.emplace_back("vbmeta");
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
  if (sheet != nullptr)
    WEXLO_CHECK(take_rollback(bench.stock.firmware(), facts, out.findings, bench.context));
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
    if (!is_vbmeta(name) || one.size == 0) continue;
    const auto image = bench.stock.get(name, bench.context);
    if (!image && is_of_this_run(image.error().code)) return fail(image.error());
    // Where there are two of it, which one is meant was not asked.
    if (image && *image != nullptr) set.add(name, (*image)->bytes);
  }
  for (const PreparedImage& one : out.images) {
    if (!one.flashed || is_vbmeta(one.partition)) continue;
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

namespace {

/// "korvale/gnomon/gnomon:16/…" names product and device in front of the colon.
std::vector<std::string> phone_words(const std::string& fingerprint) {
  std::vector<std::string> out;
  std::string_view head = std::string_view(fingerprint).substr(0, fingerprint.find(':'));
  if (head.size() == fingerprint.size()) return out;
  for (std::size_t at = head.find('/'); at != head.npos; at = head.find('/')) {
    head.remove_prefix(at + 1);
    out.emplace_back(head.substr(0, head.find('/')));
  }
  return out;
}

/// Whether two phones have a name in common; true where either has none.
bool may_be_same_phone(const std::vector<std::string>& one, const std::vector<std::string>& other) {
  return one.empty() || other.empty() ||
         std::ranges::any_of(one, [&](const std::string& name) { return contains(other, name); });
}

std::vector<std::string> phone_words(const BuildFacts& build) {
  std::vector<std::string> out = phone_words(build.fingerprint);
  for (const std::string& name : alternatives(build.device))
    out.push_back(name);
  return out;
}

/// The firmware's own image of a partition; nullptr: it has none.
const PartitionFacts* own_image(const Workbench& bench, const std::string& name) {
  for (const PartitionFacts& one : bench.stock.firmware().partitions)
    if (without_slot(one.name) == name && one.size > 0) return &one;
  return nullptr;
}

/// What the image of a partition has to be: what the firmware's own is, else what its name says.
std::string kind_due(const Workbench& bench, const std::string& name) {
  if (is_vbmeta(name)) return "vbmeta";
  if (!is_boot_class(name)) return "";
  if (const PartitionFacts* own = own_image(bench, name)) {
    const auto start = own->content->head(kProbeSize);
    const auto found = start ? identify_bytes(*start) : std::nullopt;
    if (found) return std::string(found->format->kind);
  }
  return std::string(partition_row(name)->image);
}

/// Whether the build that an image names is another phone's. A generic kernel's image names its own
/// build: where the firmware's own image does so, too, that tells nothing of the phone.
bool names_another_phone(const Workbench& bench, const Prepared& out, const std::string& name,
                         const PartitionFacts& image) {
  const auto phone = phone_words(out.build);
  if (const PartitionFacts* own = own_image(bench, name);
      own != nullptr && !may_be_same_phone(phone_words(build_in_image(*own)), phone))
    return false;
  return !may_be_same_phone(phone_words(build_in_image(image)), phone);
}

}  // namespace

void compare_with_older_phone(const Workbench& bench, Prepared& out) {
  const PrepareOptions& options = bench.options;
  if (options.like_build.empty() && options.like_device.empty()) return;
  BuildFacts before;
  before.fingerprint = options.like_build;
  before.device = options.like_device;
  if (!may_be_same_phone(phone_words(before), phone_words(out.build)))
    problem(out, "like-device",
            fmt::format("The older kit is for {}, this firmware is for {}: another phone.",
                        options.like_device, out.build.device),
            "");
  if (!options.like_build.empty() && out.build.fingerprint.empty())
    out.findings.push_back(
        {"warning", "like-build-unknown",
         "The package does not say which build it is: the kit is made as for a phone that runs it "
         "already. If it is an update, the phone has to take it first.",
         ""});
}

void judge_given(const Workbench& bench, Prepared& out) {
  const Sheet* sheet = bench.sheet();
  for (const Given& one : bench.given) {
    const std::string name(without_slot(one.partition));
    const bool known = bench.stock.has(one.partition) || bench.stock.has(name) ||
                       !logical_name(out.super, one.partition, sheet).empty() ||
                       (sheet != nullptr && sheet->size_of(name));
    if (!known)
      problem(out, "unknown-partition-" + one.partition,
              fmt::format("Neither the firmware nor the sheet has a partition {}: the phone would "
                          "refuse the write.",
                          one.partition),
              one.partition);
    const std::string wanted = kind_due(bench, name);
    if (!wanted.empty() && wanted != one.kind)
      problem(out, "other-kind-" + one.partition,
              fmt::format("{} is {}, and the file given for it is {}.", one.partition, wanted,
                          one.kind.empty() ? "not recognised" : one.kind),
              one.partition);
    const bool own = partition_class(name) != PartitionClass::Other;
    if (own && one.image != nullptr && names_another_phone(bench, out, name, *one.image))
      problem(out, "other-phone-" + one.partition,
              fmt::format("The image given for {} is of the build {}: another phone than {}.",
                          one.partition, build_in_image(*one.image).fingerprint, out.build.device),
              one.partition);
  }
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

namespace {

/// The phone's installer fills the slot that it does not start from, and the kit's images go there.
bool lands_elsewhere(const Workbench& bench, const Prepared& out) {
  if (!out.shape.slotted.value_or(true) || out.shape.way == Way::Download) return false;
  const bool update = out.purpose == Purpose::Update &&
                      contains(bench.stock.firmware().layers, "payload", &Layer::kind);
  return update || (out.install && out.install->payload);
}

}  // namespace

Status place_in_super(const Workbench& bench, Prepared& out) {
  // Download mode writes the package's super whole: what the phone has in its own is gone then.
  const Sheet* sheet = out.shape.way == Way::Download ? nullptr : bench.sheet();
  out.super = super_facts(bench.stock.firmware(), sheet, out.shape.slotted.value_or(true));
  SuperFacts left = out.super;
  for (GivenPart& part : out.given) {
    const std::string& name = part.given.partition;
    part.logical = logical_name(left, name, bench.sheet());
    if (part.logical.empty()) continue;
    // What the installer leaves in super, its own snapshots among it, no one knows before.
    if (lands_elsewhere(bench, out))
      return fail(
          {.code = ErrorCode::DoesNotFit,
           .message = fmt::format(
               "{} cannot be planned together with a package that the phone installs to its "
               "other slot: how super looks after that is not known before",
               name),
           .file = part.given.file,
           .hint = "Do it in two steps: install the package and let the phone start once; "
                   "then make a sheet of it and a kit for the build that it runs by then."});
    RoomPlan room = make_room(left, part.logical, align_up(part.given.size, 4096));
    if (!room.fits)
      problem(out, "no-room-" + name, room.why, part.logical);
    else if (room.unknown)
      out.findings.push_back({"warning", "room-unknown-" + name, room.why, part.logical});
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
  return {};
}

Status judge_mounts(const Workbench& bench, Prepared& out) {
  const verified::Walk& walk = out.verification.walk;
  if (walk.structs.empty() || walk.verification_disabled || walk.hashtrees_disabled) return {};
  std::set<std::string> verified;
  for (const std::string_view name : ramdisk_partitions(RamdiskOrder::Joined)) {
    if (name == "recovery") continue;  // a normal start mounts nothing by what is in there
    const auto changed = std::ranges::find_if(
        out.images, [&](const PreparedImage& one) { return one.partition == name && one.flashed; });
    ImageFacts facts;
    if (changed != out.images.end()) {
      WEXLO_TRY(const LoadedImage image, load_image(changed->patched.bytes, std::string(name)));
      WEXLO_TRY(facts, image_facts(image, std::string(name), bench.context));
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
