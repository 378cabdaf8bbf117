/// The protocol over TCP: four bytes `FB` and a version both ways, then every message behind its
/// length (64 bits, big-endian).

#include "phone/wait.hpp"

namespace wexlo {
namespace {

using asio::ip::tcp;

class TcpLink final : public Link {
 public:
  TcpLink(const PhoneAddress& address, const Context& context, const Patience& patience)
      : address_(address),
        patience_(patience),
        waiter_(address_text(address), context),
        socket_(waiter_.io()) {}

  Status open() {
    WEXLO_TRY(const auto found, waiter_.places_of<tcp>(address_));
    WEXLO_CHECK(until(
        [&](auto done) {
          asio::async_connect(socket_, found,
                              [done](const asio::error_code& code, const auto&) { done(code); });
        },
        patience_.connect, "nobody answers"));
    return shake_hands();
  }

  Status send(View message) override {
    Bytes framed;
    BeWriter(framed).put<std::uint64_t>(message.size());
    append(framed, message);
    return write(framed);
  }

  Result<Bytes> receive() override {
    std::byte head[8];
    WEXLO_CHECK(read(head));
    const auto size = load<std::uint64_t, std::endian::big>(head);
    if (size > kMaxMessage)
      return fail({.code = ErrorCode::LimitExceeded,
                   .message = "the phone announces a reply longer than any is",
                   .file = waiter_.where(),
                   .expected = fmt::format("at most {} bytes", kMaxMessage),
                   .found = fmt::format("{} bytes", size)});
    Bytes out(size);
    WEXLO_CHECK(read(out));
    return out;
  }

 private:
  Status shake_hands() {
    constexpr std::string_view kOwn = "FB01";
    WEXLO_CHECK(write(as_view(kOwn)));
    Bytes theirs(kOwn.size());
    WEXLO_CHECK(read(theirs));
    const std::string_view text = as_text(theirs);
    const bool digits = text.find_first_not_of("0123456789", 2) == text.npos;
    // A later version speaks ours, too: the lower of both is used.
    if (text.starts_with("FB") && digits && text != "FB00") return {};
    return fail({.code = ErrorCode::LinkLost,
                 .message = "what answers there does not speak a bootloader's protocol",
                 .file = waiter_.where(),
                 .expected = "FB and a version",
                 .found = std::string(text)});
  }

  Status write(View bytes) {
    return until(
        [&](auto done) {
          asio::async_write(socket_, asio::buffer(bytes.data(), bytes.size()),
                            [done](const asio::error_code& code, std::size_t) { done(code); });
        },
        patience_.reply, "it takes nothing more");
  }
  Status read(MutableView bytes) {
    return until(
        [&](auto done) {
          asio::async_read(socket_, asio::buffer(bytes.data(), bytes.size()),
                           [done](const asio::error_code& code, std::size_t) { done(code); });
        },
        patience_.reply, "it says nothing more");
  }
  template <class Start>
  Status until(Start start, std::chrono::milliseconds limit, const char* otherwise) {
    const auto cancel = [&] {
      asio::error_code ignored;
      socket_.close(ignored);
    };
    WEXLO_TRY(const bool done, waiter_.wait(start, cancel, limit));
    return done ? Status() : fail(waiter_.lost(otherwise));
  }

  PhoneAddress address_;
  Patience patience_;
  Waiter waiter_;
  tcp::socket socket_;
};

}  // namespace

Result<LinkPtr> connect_tcp(const PhoneAddress& address, const Context& context,
                            const Patience& patience) {
  auto link = std::make_unique<TcpLink>(address, context, patience);
  WEXLO_CHECK(link->open());
  return link;
}

}  // namespace wexlo
