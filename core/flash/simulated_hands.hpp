#pragma once
/// Does on a simulated phone what a person would do by hand.

#include <set>

#include "flash/player.hpp"
#include "phone/simulated/simulated_phone.hpp"

namespace wexlo {

/// The files that a person works with.
struct BenchFiles {
  /// Files of the kit. May not be empty where something of it is handed over or installed.
  OpenKitFile kit;
  /// The stock image of a partition, by its bare name; nullptr: it is not here. May be empty.
  std::function<Result<SourcePtr>(const std::string& partition)> stock;
  /// Names of the partitions that the whole stock package writes, bare.
  std::vector<std::string> package;
  /// Does what a package does, in the place of what is read from it; may be empty.
  std::function<Status(SimulatedPhone&, const Step&)> instead;
};

class SimulatedHands final : public Hands {
 public:
  SimulatedHands(SimulatedPhone& phone, BenchFiles files)
      : phone_(phone), files_(std::move(files)) {}

  std::set<std::string> done;  ///< ids of steps that were done by hand
  std::string unknown;         ///< a package that was installed, and nobody here can read

  [[nodiscard]] Result<std::string> by_hand(const Step& step, const act::ByHand& task,
                                            Phone& phone) override;
  [[nodiscard]] Result<std::string> install(const Step& step, const act::Install& what,
                                            Phone& phone) override;
  [[nodiscard]] Result<std::string> hand_over(const Step& step, const act::HandOver& what,
                                              Phone& phone) override;
  [[nodiscard]] Status bring(const Step& step, PhoneMode mode, Phone& phone) override;

 private:
  [[nodiscard]] Status write_whole_package(bool other_slot);
  [[nodiscard]] Status write_stock(const std::string& partition, const std::string& name);
  [[nodiscard]] Status give_key(const act::ByHand& task);

  SimulatedPhone& phone_;
  BenchFiles files_;
};

}  // namespace wexlo
