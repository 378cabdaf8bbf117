#include "job/draw.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "archive/bundle.hpp"
#include "figure/drawings.hpp"
#include "judge/phone_set.hpp"
#include "kit/facts/shape.hpp"
#include "kit/folder/kit.hpp"

namespace wexlo {
namespace {

Error no_figure(const std::string& path, const std::string& figure) {
  return {.code = ErrorCode::Usage,
          .message = figure.empty() ? "nothing in it that a figure shows"
                                    : fmt::format("it has nothing for the figure \"{}\"", figure),
          .file = path,
          .hint =
              "bytes needs an image, changes two of them, super and payload a package that "
              "has one, chain images with verified-boot structs."};
}

Result<figure::Scene> draw_two(const std::string& path, const std::string& other,
                               const Context& context) {
  WEXLO_TRY(const SourcePtr first, open_input(path, context));
  WEXLO_TRY(const SourcePtr second, open_input(other, context));
  WEXLO_TRY(const LoadedImage before, load_image(*first));
  WEXLO_TRY(const LoadedImage after, load_image(*second));
  return draw_difference(fmt::format("{} and {}", base_name(path), base_name(other)), before,
                         std::string(base_name(path)), after, std::string(base_name(other)),
                         context);
}

Result<figure::Scene> draw_walk(const std::string& path, const Context& context) {
  PhoneSet set;
  WEXLO_CHECK(set.add(images_of(path), context));
  std::string other;
  WEXLO_TRY(
      const verified::Walk walk,
      walk_set(set, {.find = {}, .suffix = set.suffix("", other), .root_key = {}, .rollback = {}},
               context));
  if (walk.structs.empty()) return fail(no_figure(path, "chain"));
  return draw_chain(fmt::format("Verified boot of {}", base_name(path)), walk);
}

/// What a sheet or a kit says of a phone's super; nullopt: the path is neither, or says nothing.
Result<std::optional<figure::Scene>> draw_known_super(const std::string& path) {
  const std::string name(base_name(path));
  if (path.ends_with(".toml")) {
    WEXLO_TRY(const Sheet sheet, read_sheet(path));
    const Firmware none;
    const SuperFacts super = super_facts(none, &sheet, sheet.text("state.slots") != "1");
    if (super.partitions.empty()) return std::nullopt;
    return draw_super(fmt::format("super of the phone in {}", name), super, {});
  }
  const auto kit = read_manifest(path);
  if (!kit && kit.error().code == ErrorCode::NotFound) return std::nullopt;
  if (!kit) return fail(kit.error());
  if (!kit->super) return std::nullopt;
  return draw_super(fmt::format("super of the phone that {} is for", name), kit->super->before,
                    kit->super->rooms);
}

}  // namespace

Result<figure::Scene> draw(const std::string& path, const std::string& other,
                           const DrawOptions& options, const Context& context) {
  const std::string& wanted = options.figure;
  if (!other.empty()) {
    if (!wanted.empty() && wanted != "changes") return fail(no_figure(path, wanted));
    return draw_two(path, other, context);
  }
  if (wanted == "changes")
    return fail({.code = ErrorCode::Usage, .message = "the figure changes needs two images"});
  if (wanted == "chain") return draw_walk(path, context);
  if (wanted == "super" || path.ends_with(".toml")) {
    WEXLO_TRY(auto known, draw_known_super(path));
    if (known) return std::move(*known);
    if (path.ends_with(".toml")) return fail(no_figure(path, wanted));
  }
  WEXLO_TRY(const FirmwarePtr firmware, open_firmware(path, {.context = context}));
  const std::string name(base_name(path));
  const bool payload = std::ranges::any_of(
      firmware->partitions, [](const PartitionFacts& one) { return !one.written_by.empty(); });
  if (wanted == "payload" || (wanted.empty() && payload)) {
    if (!payload) return fail(no_figure(path, wanted));
    return draw_payload(fmt::format("Payload of {}", name), *firmware);
  }
  const SuperFacts super = super_facts(
      *firmware, nullptr, std::ranges::any_of(firmware->partitions, [](const auto& one) {
        return !slot_suffix(one.name).empty();
      }));
  if (wanted == "super" || (wanted.empty() && !firmware->single && !super.partitions.empty())) {
    if (super.partitions.empty()) return fail(no_figure(path, wanted));
    return draw_super(fmt::format("super of {}", name), super, {});
  }
  if (!firmware->single && wanted.empty()) return draw_walk(path, context);
  if (!firmware->single) return fail(no_figure(path, wanted));
  WEXLO_TRY(const SourcePtr source, firmware->partitions.front().content->source(context));
  WEXLO_TRY(const LoadedImage image, load_image(*source));
  return draw_image(name, image);
}

}  // namespace wexlo
