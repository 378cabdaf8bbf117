#include "kit/plan/step.hpp"

#include <array>

#include "base/word_table.hpp"

namespace wexlo {
namespace {

// In the order of the variant and of the enums.
constexpr std::array<std::string_view, std::variant_size_v<Act>> kActs{
    "expect", "mode",          "write",   "start",     "drop", "create",  "resize",
    "slot",   "cancel-update", "install", "hand-over", "wipe", "restart", "by-hand"};
constexpr std::array<std::string_view, 4> kModes{"bootloader", "userspace", "download", "recovery"};
constexpr std::array<std::string_view, 3> kSlots{"", "current", "other"};
constexpr std::array<std::string_view, 10> kTasks{
    "ready", "unlock", "lock-with-key", "wipe",     "start-recovery",
    "write", "fill",   "look",          "identify", "start-online"};

template <class A>
auto* file_in(A& act) {
  using File = std::conditional_t<std::is_const_v<A>, const KitFile, KitFile>;
  return std::visit(
      [](auto& one) -> File* {
        if constexpr (requires { one.package; })
          return &one.package;
        else if constexpr (requires { one.file; })
          return one.file.file.empty() ? nullptr : &one.file;
        else
          return nullptr;
      },
      act);
}

}  // namespace

std::string_view act_word(const Act& act) {
  return kActs[act.index()];
}

std::optional<std::size_t> act_of(std::string_view word) {
  return of_word<std::size_t>(kActs, word);
}

std::string_view mode_word(Mode mode) {
  return kModes[static_cast<std::size_t>(mode)];
}

std::string_view slot_word(SlotRole slot) {
  return kSlots[static_cast<std::size_t>(slot)];
}

std::string_view task_word(Task task) {
  return kTasks[static_cast<std::size_t>(task)];
}

std::optional<Mode> mode_of(std::string_view word) {
  return of_word<Mode>(kModes, word);
}

std::optional<SlotRole> slot_of(std::string_view word) {
  return of_word<SlotRole>(kSlots, word);
}

std::optional<Task> task_of(std::string_view word) {
  return of_word<Task>(kTasks, word);
}

std::string_view partition_of(const Act& act) {
  return std::visit(
      [](const auto& one) -> std::string_view {
        if constexpr (requires { one.partition; })
          return one.partition;
        else
          return {};
      },
      act);
}

const KitFile* file_of(const Act& act) {
  return file_in(act);
}

KitFile* file_of(Act& act) {
  return file_in(act);
}

}  // namespace wexlo
