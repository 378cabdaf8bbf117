#pragma once
/// A phone at the other end of a wire, that speaks the bootloader's protocol. It is followed by its
/// address, or its serial over USB, when it changes its mode and the link ends.

#include "phone/fastboot/command.hpp"
#include "phone/phone.hpp"

namespace wexlo {

struct PhoneWaits {
  Patience link;
  milliseconds back{120'000};  ///< for a phone that changes its mode
  milliseconds again{500};     ///< between two tries to reach it
};

class FastbootPhone final : public Phone {
 public:
  /// @param addresses  where it may answer, in order; one at least
  FastbootPhone(std::vector<PhoneAddress> addresses, const Context& context,
                const PhoneWaits& waits)
      : addresses_(std::move(addresses)),
        address_(addresses_.front()),
        context_(context),
        waits_(waits) {}

  /// Hears what the phone says while it does an order.
  PhoneSays on_line;

  /// Reaches it, once. Errors: those of connect_phone; LinkLost where another phone answers than
  /// the one that did before.
  [[nodiscard]] Status attach();
  [[nodiscard]] bool attached() const { return link_ != nullptr; }
  void let_go() { link_.reset(); }
  /// Reaches it as soon as it answers. Errors: those of attach, once `limit` is over.
  [[nodiscard]] Status wait_for(milliseconds limit);
  [[nodiscard]] const PhoneAddress& address() const { return address_; }
  [[nodiscard]] const std::string& serial() const { return serial_; }  ///< empty: not told
  /// All it tells of itself.
  [[nodiscard]] Result<std::string> all_variables();

  [[nodiscard]] PhoneMode mode() const override { return mode_; }
  [[nodiscard]] Result<std::optional<std::string>> variable(const std::string& name) override;
  [[nodiscard]] Status enter(PhoneMode mode) override;
  [[nodiscard]] Status brought(PhoneMode mode) override;
  [[nodiscard]] Status write(const std::string& partition, const PhoneFile& file) override;
  [[nodiscard]] Result<std::optional<bool>> holds(const std::string& partition,
                                                  const PhoneFile& file) override;
  [[nodiscard]] Status start(const PhoneFile& file) override;
  [[nodiscard]] Status erase(const std::string& partition) override;
  [[nodiscard]] Status choose_slot(const std::string& slot) override;
  [[nodiscard]] Status cancel_update() override;
  [[nodiscard]] Status create_logical(const std::string& partition, std::uint64_t size) override;
  [[nodiscard]] Status resize_logical(const std::string& partition, std::uint64_t size) override;
  [[nodiscard]] Status drop_logical(const std::string& partition) override;
  [[nodiscard]] Status restart() override;

 private:
  [[nodiscard]] Status reach();
  [[nodiscard]] Status connect();
  [[nodiscard]] Status order(const std::string& command);
  [[nodiscard]] Status hand(const Source& file);
  [[nodiscard]] Status leave(const std::string& command, PhoneMode mode);
  [[nodiscard]] Status come_back(PhoneMode mode);
  [[nodiscard]] Result<std::optional<std::uint64_t>> number(const std::string& name);
  [[nodiscard]] Status write_pieces(const std::string& partition, const PhoneFile& file,
                                    std::uint64_t limit);
  [[nodiscard]] Error named(Error error) const;

  std::vector<PhoneAddress> addresses_;
  PhoneAddress address_;  ///< where it answered last
  Context context_;
  PhoneWaits waits_;
  LinkPtr link_;
  PhoneMode mode_ = PhoneMode::System;
  std::string serial_;
};

}  // namespace wexlo
