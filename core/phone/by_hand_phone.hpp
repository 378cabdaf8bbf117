#pragma once
/// A phone that no wire reaches: every step on it is done by hand, and it tells nothing.

#include "phone/phone.hpp"

namespace wexlo {

class ByHandPhone final : public Phone {
 public:
  [[nodiscard]] PhoneMode mode() const override { return mode_; }
  [[nodiscard]] Result<std::optional<std::string>> variable(const std::string&) override {
    return std::nullopt;
  }
  [[nodiscard]] Status enter(PhoneMode) override { return no_wire(); }
  [[nodiscard]] Status brought(PhoneMode mode) override {
    mode_ = mode;
    return {};
  }
  [[nodiscard]] Status write(const std::string&, const PhoneFile&) override { return no_wire(); }
  [[nodiscard]] Result<std::optional<bool>> holds(const std::string&, const PhoneFile&) override {
    return std::nullopt;
  }
  [[nodiscard]] Status start(const PhoneFile&) override { return no_wire(); }
  [[nodiscard]] Status erase(const std::string&) override { return no_wire(); }
  [[nodiscard]] Status choose_slot(const std::string&) override { return no_wire(); }
  [[nodiscard]] Status cancel_update() override { return no_wire(); }
  [[nodiscard]] Status create_logical(const std::string&, std::uint64_t) override {
    return no_wire();
  }
  [[nodiscard]] Status resize_logical(const std::string&, std::uint64_t) override {
    return no_wire();
  }
  [[nodiscard]] Status drop_logical(const std::string&) override { return no_wire(); }
  [[nodiscard]] Status restart() override { return no_wire(); }

 private:
  static Status no_wire() {
    return fail({.code = ErrorCode::Unsupported,
                 .message = "no wire leads to this phone",
                 .hint = "Give its address with --phone."});
  }
  PhoneMode mode_ = PhoneMode::System;
};

}  // namespace wexlo
