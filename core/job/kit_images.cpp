#include "job/kit_images.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "base/contains.hpp"
#include "base/digest.hpp"
#include "firmware/extract.hpp"
#include "kit/facts/edit_places.hpp"
#include "kit/folder/kit_layout.hpp"
#include "kit/verdict/patch_notes.hpp"
#include "recipe/conditions.hpp"

namespace wexlo {
namespace {

/// Larger images are copied from file to file, never held.
constexpr std::uint64_t kMaxHeld = 256u << 20;

bool can_be_held(const Given& given) {
  static constexpr std::string_view kKinds[] = {"boot", "vendor_boot", "vbmeta", "dt-table", "dtb"};
  return given.size <= kMaxHeld && std::ranges::find(kKinds, given.kind) != std::end(kKinds);
}

KitImage held(std::string partition, Made made, bool written, Patched patched) {
  KitImage out{.partition = std::move(partition), .made = made, .written = written};
  out.content = open_memory(patched.bytes, out.partition);
  out.patched = std::move(patched);
  return out;
}

/// What a recipe acts on: the image that was given, else the firmware's; nullopt: there is neither.
Result<std::optional<LoadedImage>> base_of(const ImagesInput& input, const std::string& partition,
                                           const Context& context) {
  const auto at = std::ranges::find(input.given, partition, &Given::partition);
  if (at != input.given.end()) {
    WEXLO_TRY(const Blob bytes, read_all(*at->source, kMaxImage));
    return load_image(bytes, at->file);
  }
  WEXLO_TRY(const LoadedImage* const own, input.stock.get(partition, context));
  if (own == nullptr) return std::nullopt;
  return *own;
}

/// What the phone is: told by the user, the target's programs, the build, the kernel.
Result<PhoneFacts> find_phone(const ImagesInput& input, const Context& context) {
  WEXLO_TRY(const LoadedImage* const target, input.stock.get(input.target.partition, context));
  const BuildFacts& build = input.stock.firmware().build;
  PhoneFacts out;
  out.take(input.options.told);
  PhoneFacts package{.patch_level = build.patch_level, .build = build.fingerprint};
  if (!build.sdk_level.empty())
    package.sdk = static_cast<std::uint32_t>(std::atoi(build.sdk_level.c_str()));
  out.complete(package);
  WEXLO_TRY(const PhoneFacts of_target, phone_facts(*target, context));
  out.complete(of_target);
  const bool kernel = ask_for_kernel(input.recipes);
  const auto enough = [&] {
    return !out.processor().empty() && (!kernel || !out.kernel_release.empty());
  };
  std::vector<std::string_view> places = kernel_partitions();
  // Their modules tell what the kernel is called, where none of these has it.
  if (kernel) places.insert(places.end(), {"vendor_boot", "vendor_kernel_boot"});
  for (const std::string_view one : places) {
    if (enough()) break;
    WEXLO_TRY(const auto image, base_of(input, std::string(one), context));
    if (!image) continue;
    WEXLO_TRY(const PhoneFacts facts, phone_facts(*image, context));
    out.complete({.kernel_architecture = facts.kernel_architecture,
                  .kernel_release = facts.kernel_release,
                  .kmi = facts.kmi});
  }
  return out;
}

/// Why the first edit was left out that was; empty: none was.
std::string left_out(const std::vector<std::vector<EditReport>>& reports) {
  for (const auto& image : reports)
    for (const EditReport& edit : image)
      if (edit.outcome == Outcome::Skipped)
        return fmt::format("\"{}\" was left out: {}", edit.summary, edit.why);
  return {};
}

/// One image on its way through the recipes.
struct Patching {
  LoadedImage image;
  PatchRole role;
  std::optional<Result<Patched>> done{};
};

/// What is looked up once for all of them: images, origins, the recipes' files.
Result<std::vector<Patching>> ready_all(const ImagesInput& input, EditPlaces& places,
                                        MadeImages& out, const Context& context) {
  std::vector<Patching> all;
  for (const std::string& name : places.partitions) {
    WEXLO_CHECK(check_stop(context));
    WEXLO_TRY(auto base, base_of(input, name, context));
    LoadedImage& image = *base;  // it is one of the places that were found
    PatchRole role{.partition = name,
                   .target = name == input.target.partition,
                   .homes = places.homes[name],
                   .phone = out.phone};
    if (!contains(input.given, name, &Given::partition)) role.sha256 = input.stock.sha256(name);
    auto ready = ready_to_patch(image, std::move(role), out.recipes, input.options, {},
                                out.origins[name], context);
    if (!ready) return fail(in_file(std::move(ready).error(), input.stock.where() + "!" + name));
    all.push_back({std::move(image), std::move(*ready)});
  }
  return all;
}

}  // namespace

Result<MadeImages> patch_images(const ImagesInput& input, const Context& context) {
  MadeImages out{
      .images = {}, .recipes = input.recipes, .phone = {}, .origins = {}, .findings = {}};
  WEXLO_TRY(EditPlaces places,
            places_of(out.recipes, input.target.partition, input.stock, context));
  WEXLO_TRY(out.phone, find_phone(input, context));
  WEXLO_TRY(std::vector<Patching> all, ready_all(input, places, out, context));
  TaskGroup tasks(context);
  for (Patching& one : all)
    tasks.submit(one.image.bytes.size(), [&]() -> Status {
      one.done = patch_image(one.image, one.role, out.recipes, context);
      return {};
    });
  WEXLO_CHECK(tasks.wait());
  std::vector<std::vector<EditReport>> reports;
  for (Patching& one : all) {
    const std::string& name = one.role.partition;
    Result<Patched>& patched = *one.done;
    if (!patched)
      return fail(in_file(std::move(patched).error(), input.stock.where() + "!" + name));
    reports.push_back(patched->edits);
    const bool changed = patched->changed;
    out.images.push_back(held(name, Made::Patched, changed, std::move(*patched)));
  }
  if (auto matched = check_matches(reports); !matched)
    return fail(in_file(std::move(matched).error(), input.stock.where()));
  judge_start_edits(out.recipes, reports, out.findings);
  for (const KitImage& image : out.images)
    tell_of_patch(image, input.stock.read(), input.signs, out.findings);
  if (std::ranges::any_of(out.images, &KitImage::written)) return out;
  return fail({.code = ErrorCode::NoMatch,
               .message = "the recipes change nothing in this firmware",
               .file = input.stock.where(),
               .found = left_out(reports),
               .hint =
                   "The firmware has what they ask for already, or their conditions do not hold "
                   "for it: there is nothing to flash."});
}

Result<KitImages> put_back_images(StockImages& stock, std::vector<std::string> names,
                                  const Context& context) {
  if (names.empty())
    for (const std::string& name : boot_chain(stock.firmware()))
      names.emplace_back(without_slot(name));
  KitImages out;
  for (const std::string& name : names) {
    // Two slots of one partition are one name here.
    if (find_image(out, name) != nullptr) continue;
    WEXLO_TRY(const LoadedImage* const one, stock.get(name, context));
    if (one == nullptr) continue;
    Patched same{.bytes = one->bytes, .sha256 = stock.sha256(name)};
    same.way_back = {.in_image = true, .size = 0, .reason = "it is the stock image"};
    out.push_back(held(name, Made::Stock, true, std::move(same)));
  }
  put_in_order(out);
  if (!out.empty()) return out;
  return fail({.code = ErrorCode::NoTarget,
               .message = "the firmware has no image of the boot chain to put back",
               .file = stock.where()});
}

Status add_given(const std::vector<Given>& given, bool stock_kit, StockImages& stock,
                 KitImages& images, const Context& context) {
  for (const Given& one : given) {
    KitImage* changed = find_image(images, one.partition);
    if (changed != nullptr && changed->written && !stock_kit) {
      changed->patched.way_back = {false, 0, "it was made from the image given for it"};
      continue;
    }
    if (changed != nullptr) images.erase(images.begin() + (changed - images.data()));
    KitImage image{.partition = one.partition, .made = Made::Given};
    if (can_be_held(one)) {
      WEXLO_TRY(const Blob bytes, read_all(*one.source, kMaxHeld));
      Patched as_given{.bytes = bytes, .sha256 = sha256_hex(bytes.view()), .changed = true};
      as_given.way_back = {.in_image = false, .size = 0, .reason = "it was given"};
      image = held(one.partition, Made::Given, true, std::move(as_given));
      WEXLO_CHECK(stock.get(one.partition, context));
    } else {
      image.content = one.source;
      image.patched.way_back = {.in_image = false, .size = 0, .reason = "it was given"};
    }
    image.given = one;
    images.push_back(std::move(image));
  }
  put_in_order(images);
  return {};
}

Status complete_images(StockImages& stock, bool installs, KitImages& images,
                       const Context& context) {
  // Recovery's image, wherever it lives, is what an installation runs in.
  const auto carries_recovery = [&](const std::string& partition) {
    if (partition == "recovery") return true;
    return (partition == "vendor_boot" || partition == "boot") && !stock.has("recovery");
  };
  for (KitImage& image : images) {
    if (!image.written) continue;
    image.before_install =
        installs && image.made == Made::Given && carries_recovery(image.partition);
    if (image.is_held()) {
      WEXLO_TRY(const LoadedImage* const twin, stock.get(image.partition, context));
      if (twin == nullptr) continue;
      image.stock_bytes = twin->bytes;
      image.stock_sha256 = stock.sha256(image.partition);
      image.stock = open_memory(twin->bytes, image.partition);
      continue;
    }
    const std::string& name = image.is_logical() ? image.logical : image.partition;
    if (const PartitionFacts* twin = stock_image(stock.firmware(), name, stock.where())) {
      WEXLO_TRY(image.stock, twin->content->source(context));
    }
  }
  return {};
}

}  // namespace wexlo
