#include "flash/served_phone.hpp"

namespace wexlo {

Result<std::unique_ptr<ServedPhone>> ServedPhone::begin(const Sheet* sheet,
                                                        const Firmware* firmware,
                                                        const Context& context) {
  auto store = std::make_unique<MemoryStore>();
  WEXLO_TRY(PhoneState state, fill_bench_phone(*store, sheet, firmware, context));
  state.mode = PhoneMode::Bootloader;
  std::unique_ptr<ServedPhone> out(new ServedPhone(std::move(state), std::move(store)));
  WEXLO_CHECK(out->open());
  return out;
}

Status ServedPhone::open() {
  WEXLO_TRY(stock_, StockState::of(phone_));
  take_in_hand(phone_, *stock_);
  phone_.on_start = [this](const SourcePtr& once) {
    if (auto started = power_on(phone_, stock_, once)) started_ = std::move(*started);
  };
  WEXLO_TRY(address_,
            server_.listen({.wire = Wire::Tcp, .host = "127.0.0.1", .port = 0, .serial = {}}));
  return {};
}

PoweredOn ServedPhone::last_start() {
  const std::lock_guard mine(server_.turn);
  return started_;
}

}  // namespace wexlo
