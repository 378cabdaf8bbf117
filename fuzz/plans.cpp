/// What a kit says of itself: its plan and its manifest.

#include "kit/folder/manifest.hpp"
#include "kit/plan/plan_toml.hpp"
#include "target.hpp"

namespace wexlo::fuzz {
namespace {

const std::string kDigest(64, 'a');

Step step(std::string id, Act act) {
  return {.id = std::move(id),
          .act = std::move(act),
          .about = "What.",
          .before = "before",
          .success = "success",
          .notes = {"a \"note\""},
          .usual_seconds = 5};
}

}  // namespace

/// A plan that is taken is written as it was meant: read again it is the same one.
void plan(View input) {
  const auto read = read_plan(as_text(input), "plan.toml");
  if (!read) return;
  const std::string written = format_plan(*read);
  const auto again = read_plan(written, "again");
  must(again.has_value());
  must(*again == *read);
  must(format_plan(*again) == written);
}

std::vector<std::string> plan_seeds() {
  const KitFile file{"flash/boot.img", 4096, kDigest};
  Plan plan{.device = "gnomon",
            .needs = Needs::OwnKey,
            .needs_why = "It is signed.",
            .key_file = "key/k.bin",
            .key_sha256 = kDigest,
            .first = {"First this."}};
  plan.steps = {
      step("mode", act::EnterMode{Mode::Bootloader}),
      step("device", act::Expect{.variable = "product", .value = "gnomon"}),
      step("size", act::Expect{.variable = "partition-size:boot", .at_least = 4096}),
      step("room", act::Resize{"system_a", 1u << 20}),
      step("boot", act::Write{.partition = "boot", .slot = SlotRole::Other, .file = file}),
      step("slot", act::ChooseSlot{SlotRole::Other, "b"}),
      step("hand", act::HandOver{.file = file, .field = "the system part"}),
      step("look", act::ByHand{.task = Task::Write, .partition = "boot"}),
      step("end", act::Restart{})};
  plan.back = {step("back", act::Write{.partition = "boot", .file = file})};
  plan.steps[4].undo = "back";
  return {format_plan(plan)};
}

/// A manifest that is taken keeps what it says.
void manifest(View input) {
  const auto read = parse_manifest(as_text(input), "kit.json");
  if (!read) return;
  const std::string written = format_manifest(*read);
  const auto again = parse_manifest(written, "again");
  must(again.has_value());
  must(format_manifest(*again) == written);
  (void)files_of(*read);
}

std::vector<std::string> manifest_seeds() {
  KitManifest kit{.device = "gnomon",
                  .build = "korvale/gnomon/gnomon:16/A/1:user/k",
                  .patch_level = "2026-09-05",
                  .firmware = "ota.zip",
                  .slotted = true,
                  .images = {{.partition = "boot"}, {.partition = "system"}},
                  .verdict = {.needs = Needs::Unlocked, .why = "It was changed."},
                  .plan = {"plan.toml", 0, kDigest},
                  .files = {{"plan.txt", 3, kDigest}}};
  kit.images[0].flash = {"flash/boot.img", 4096, kDigest};
  kit.images[1].logical = "system_a";
  kit.images[1].flash = {.size = 58, .pieces = {{"flash/system.piece-1.img", 30, kDigest}}};
  return {format_manifest(kit)};
}

}  // namespace wexlo::fuzz
