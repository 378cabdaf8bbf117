#include "flash/served_phone.hpp"

#include <mutex>
#include <thread>

#include "phone/fastboot/listen.hpp"
#include "phone/simulated/bootloader.hpp"

namespace wexlo {
namespace {

constexpr milliseconds kSilence{600'000};

class Served final : public ServedPhone {
 public:
  ~Served() override {
    stop_.request_stop();
    if (thread_.joinable()) thread_.join();
  }

  Status open(const Sheet* sheet, const Firmware* firmware, const Context& context) {
    auto store = std::make_unique<MemoryStore>();
    WEXLO_TRY(PhoneState state, fill_bench_phone(*store, sheet, firmware, context));
    state.mode = PhoneMode::Bootloader;
    phone_ = std::make_unique<SimulatedPhone>(std::move(state), std::move(store));
    WEXLO_TRY(stock_, StockState::of(*phone_));
    take_in_hand(*phone_, *stock_);
    phone_->on_start = [this](const SourcePtr& once) {
      if (auto started = power_on(*phone_, stock_, once)) started_ = std::move(*started);
    };
    Context own;
    own.stop = stop_.get_token();
    WEXLO_TRY(listener_,
              listen_at({.wire = Wire::Tcp, .host = "127.0.0.1", .port = 0, .serial = {}}, kSilence,
                        own));
    address_ = {.wire = Wire::Tcp, .host = "127.0.0.1", .port = listener_->port(), .serial = {}};
    thread_ = std::thread([this] {
      (void)listener_->run([this](Link& host) {
        hold_keys();
        (void)serve_bootloader(host, *phone_, turn_, {});
        return true;
      });
    });
    return {};
  }

  const PhoneAddress& address() const override { return address_; }
  PoweredOn last_start() override {
    const std::lock_guard mine(turn_);
    return started_;
  }

 private:
  void hold_keys() {
    const std::lock_guard mine(turn_);
    const PhoneMode mode = phone_->mode();
    if (mode != PhoneMode::Bootloader && mode != PhoneMode::Userspace)
      phone_->bring(PhoneMode::Bootloader);
  }

  std::stop_source stop_;
  std::mutex turn_;
  std::unique_ptr<SimulatedPhone> phone_;
  StockStatePtr stock_;
  PoweredOn started_;
  std::unique_ptr<Listener> listener_;
  PhoneAddress address_;
  std::thread thread_;
};

}  // namespace

Result<std::unique_ptr<ServedPhone>> ServedPhone::begin(const Sheet* sheet,
                                                        const Firmware* firmware,
                                                        const Context& context) {
  auto out = std::make_unique<Served>();
  WEXLO_CHECK(out->open(sheet, firmware, context));
  return out;
}

}  // namespace wexlo
