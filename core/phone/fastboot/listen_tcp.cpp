#include "phone/fastboot/listen.hpp"
#include "phone/fastboot/tcp_stream.hpp"

namespace wexlo {
namespace {

using asio::ip::tcp;

class TcpListener final : public Listener {
 public:
  TcpListener(const PhoneAddress& address, milliseconds silence, const Context& context)
      : address_(address),
        context_(context),
        waiter_(address_text(address), context),
        acceptor_(waiter_.io()) {
    patience_.connect = patience_.reply = silence;
  }

  Status open() {
    WEXLO_TRY(const auto places, waiter_.places_of<tcp>(address_));
    const tcp::endpoint at = places.begin()->endpoint();
    asio::error_code failed;
    acceptor_.open(at.protocol(), failed);
    if (!failed) acceptor_.set_option(tcp::acceptor::reuse_address(true), failed);
    if (!failed) acceptor_.bind(at, failed);
    if (!failed) acceptor_.listen(4, failed);
    if (!failed) address_.port = acceptor_.local_endpoint(failed).port();
    if (failed) return fail(cannot_listen(failed, address_));
    return {};
  }

  std::uint16_t port() const override { return address_.port; }

  Status run(const Attend& attend) override {
    for (;;) {
      TcpStream stream("a host", context_, patience_);
      WEXLO_CHECK(accept(stream));
      // One that does not greet is no host, and keeps the others waiting no longer than this.
      constexpr milliseconds kHost = 5 * TcpStream::kGreeting;
      if (stream.shake_hands(kHost).value_or(false)) attend(stream);
    }
  }

 private:
  Status accept(TcpStream& stream) {
    constexpr milliseconds kWhile{60'000};
    for (;;) {
      WEXLO_TRY(const bool came, waiter_.wait(
                                     [&](auto handler) {
                                       acceptor_.async_accept(stream.socket(), std::move(handler));
                                     },
                                     [&] { acceptor_.cancel(); }, kWhile));
      if (came) return {};
    }
  }

  PhoneAddress address_;
  Context context_;
  Patience patience_;
  Waiter waiter_;
  tcp::acceptor acceptor_;
};

}  // namespace

Result<std::unique_ptr<Listener>> listen_tcp(const PhoneAddress& address, milliseconds silence,
                                             const Context& context) {
  auto out = std::make_unique<TcpListener>(address, silence, context);
  WEXLO_CHECK(out->open());
  return out;
}

Result<std::unique_ptr<Listener>> listen_at(const PhoneAddress& address, milliseconds silence,
                                            const Context& context) {
  switch (address.wire) {
    case Wire::Tcp: return listen_tcp(address, silence, context);
    case Wire::Udp: return listen_udp(address, silence, context);
    case Wire::Usb: break;
  }
  return fail({.code = ErrorCode::Usage,
               .message = "nobody can be waited for over USB",
               .file = address_text(address),
               .hint = "Listen at a port of TCP or UDP."});
}

}  // namespace wexlo
