#include "flash/simulated_hands.hpp"

#include <fmt/format.h>

#include "image/partitions.hpp"
#include "phone/simulated/packages.hpp"

namespace wexlo {
namespace {

constexpr std::uint64_t kMostKey = 64u << 10;

}  // namespace

Result<std::string> SimulatedHands::by_hand(const Step& step, const act::ByHand& task, Phone&) {
  done.insert(step.id);
  switch (task.task) {
    case Task::Unlock: phone_.set_locked(false); break;
    case Task::LockWithKey: WEXLO_CHECK(give_key(task)); break;
    case Task::Wipe: phone_.wipe_data(); break;
    case Task::StartRecovery: phone_.bring(PhoneMode::Recovery); break;
    case Task::StartOnline:
      phone_.state.mode = PhoneMode::System;
      phone_.state.download.online = true;
      break;
    case Task::Write:
    case Task::Fill: {
      std::string name = task.partition;
      if (task.slot != SlotRole::None)
        name += "_" + (task.slot == SlotRole::Current ? phone_.state.slot : phone_.other_slot());
      WEXLO_CHECK(write_stock(task.partition, name));
      break;
    }
    case Task::Ready:
    case Task::Identify:
    case Task::Look: break;
  }
  return std::string();
}

Status SimulatedHands::give_key(const act::ByHand& task) {
  if (!task.file.file.empty() && files_.kit) {
    WEXLO_TRY(const SourcePtr key, files_.kit(task.file.file));
    WEXLO_TRY(const Blob bytes, read_all(*key, kMostKey));
    phone_.state.owner_key = to_bytes(bytes.view());
  }
  phone_.set_locked(true);
  return {};
}

/// What is not on the bench is left as it is: a person has it from elsewhere.
Status SimulatedHands::write_stock(const std::string& partition, const std::string& name) {
  if (!files_.stock) return {};
  WEXLO_TRY(const SourcePtr image, files_.stock(std::string(without_slot(partition))));
  if (image == nullptr || !phone_.size_of(name)) return {};
  return phone_.replace(name, image);
}

Status SimulatedHands::write_whole_package(bool other_slot) {
  const std::string slot = "_" + (other_slot ? phone_.other_slot() : phone_.state.slot);
  for (const std::string& one : files_.package) {
    const std::string name = phone_.size_of(one + slot) ? one + slot : one;
    WEXLO_CHECK(write_stock(one, name));
  }
  return {};
}

Result<std::string> SimulatedHands::install(const Step& step, const act::Install& what, Phone&) {
  done.insert(step.id);
  if (step.risk.data_loss) phone_.wipe_data();
  if (files_.instead) {
    WEXLO_CHECK(files_.instead(phone_, step));
    return std::string();
  }
  const auto package = files_.kit ? files_.kit(what.package.file) : Result<SourcePtr>(nullptr);
  if (package && *package != nullptr) {
    WEXLO_TRY(Installed installed, install_package(phone_, *package));
    if (!installed.known) unknown = what.package.file;
    return std::move(installed.said);
  }
  // The stock package itself, over the air: it is not in the kit.
  WEXLO_CHECK(write_whole_package(phone_.state.slotted));
  if (phone_.state.slotted) phone_.state.slot = phone_.other_slot();
  return std::string("the stock package was installed");
}

Result<std::string> SimulatedHands::hand_over(const Step& step, const act::HandOver& what, Phone&) {
  done.insert(step.id);
  if (step.risk.data_loss) phone_.wipe_data();
  if (files_.instead) {
    WEXLO_CHECK(files_.instead(phone_, step));
    return std::string();
  }
  const auto file = what.file.file.empty() || !files_.kit ? Result<SourcePtr>(nullptr)
                                                          : files_.kit(what.file.file);
  if (file && *file != nullptr) {
    WEXLO_TRY(Installed taken, take_download(phone_, *file));
    return std::move(taken.said);
  }
  WEXLO_CHECK(write_whole_package(false));
  return std::string("the whole stock package was written");
}

Status SimulatedHands::bring(const Step& step, PhoneMode mode, Phone&) {
  done.insert(step.id);
  phone_.bring(mode);
  return {};
}

}  // namespace wexlo
