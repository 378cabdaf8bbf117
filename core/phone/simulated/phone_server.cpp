#include "phone/simulated/phone_server.hpp"

namespace wexlo {

PhoneServer::~PhoneServer() {
  stop_.request_stop();
  for (std::thread& one : threads_)
    one.join();
}

Result<PhoneAddress> PhoneServer::listen(PhoneAddress address) {
  constexpr milliseconds kSilence{600'000};
  Context context;
  context.stop = stop_.get_token();
  WEXLO_TRY(auto listener, listen_at(address, kSilence, context));
  address.port = listener->port();
  Listener& here = *listeners_.emplace_back(std::move(listener));
  threads_.emplace_back([this, &here] { (void)here.run([this](Link& host) { attend(host); }); });
  return address;
}

void PhoneServer::attend(Link& host) {
  {
    const std::lock_guard mine(turn);
    const bool answers =
        phone_.mode() == PhoneMode::Bootloader || phone_.mode() == PhoneMode::Userspace;
    if (!answers && !habits_.keys) return;
    if (!answers) phone_.bring(PhoneMode::Bootloader);
  }
  serve_bootloader(host, phone_, turn, habits_.told);
}

}  // namespace wexlo
