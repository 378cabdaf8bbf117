#pragma once
/// A phone that is played on instead of a real one: it keeps what its partitions hold by their
/// digests, and refuses what a phone refuses: a write or an erase while it is locked, an image
/// larger than its partition, a logical partition from the bootloader.

#include <map>
#include <set>

#include "phone/phone.hpp"

namespace wexlo {

/// What a phone is before anything is done, and what it has become since.
struct PhoneState {
  std::map<std::string, std::string> partitions;  ///< digest of what is in them, by name
  std::map<std::string, std::uint64_t> sizes;     ///< of partitions outside of super, bytes
  std::map<std::string, std::uint64_t> logical;   ///< sizes of logical partitions, bytes
  std::uint64_t super = 0;                        ///< bytes that they may take together
  std::map<std::string, std::string> variables;   ///< besides those that it works out itself
  std::set<std::string> silent;                   ///< variables that this one does not know
  PhoneMode mode = PhoneMode::System;
  std::string slot = "a";
  bool slotted = true, locked = false;
  bool wiped = false;         ///< the user's data was erased
  bool update_waits = false;  ///< an over-the-air update is not merged yet
};

class SimulatedPhone final : public Phone {
 public:
  explicit SimulatedPhone(PhoneState start) : state(std::move(start)) {}
  PhoneState state;

  [[nodiscard]] PhoneMode mode() const override { return state.mode; }
  [[nodiscard]] Result<std::optional<std::string>> variable(const std::string& name) override;
  [[nodiscard]] Status enter(PhoneMode mode) override;
  [[nodiscard]] Status write(const std::string& partition, const PhoneFile& file) override;
  [[nodiscard]] Status start(const PhoneFile& file) override;
  [[nodiscard]] Status erase(const std::string& partition) override;
  [[nodiscard]] Status choose_slot(const std::string& slot) override;
  [[nodiscard]] Status cancel_update() override;
  [[nodiscard]] Status create_logical(const std::string& partition, std::uint64_t size) override;
  [[nodiscard]] Status resize_logical(const std::string& partition, std::uint64_t size) override;
  [[nodiscard]] Status drop_logical(const std::string& partition) override;
  [[nodiscard]] Status restart() override;

  // What people do by hand, over no wire: the bootloader's lock, which erases the user's data
  // either way.
  void set_locked(bool locked);

 private:
  [[nodiscard]] Status check_logical(const std::string& partition, bool there) const;
  [[nodiscard]] Status check_unlocked(std::string_view what) const;
  [[nodiscard]] std::optional<std::uint64_t> size_of(const std::string& partition) const;
  [[nodiscard]] Status resize(const std::string& partition, std::uint64_t size);
};

}  // namespace wexlo
