#include "phone/fastboot/tcp_stream.hpp"

namespace wexlo {

using asio::ip::tcp;

TcpStream::TcpStream(std::string where, const Context& context, const Patience& patience)
    : patience_(patience), waiter_(std::move(where), context), socket_(waiter_.io()) {}

template <class Start>
Result<bool> TcpStream::in_time(Start start, milliseconds limit) {
  const auto cancel = [&] {
    asio::error_code ignored;
    socket_.close(ignored);
  };
  return waiter_.wait(start, cancel, limit);
}

template <class Start>
Status TcpStream::until(Start start, milliseconds limit, const char* otherwise) {
  WEXLO_TRY(const bool done, in_time(start, limit));
  return done ? Status() : fail(waiter_.lost(otherwise));
}

/// A bootloader that still waits for a host of before says nothing to the next one, until that one
/// hangs up and calls again.
Status TcpStream::connect(const PhoneAddress& address) {
  WEXLO_TRY(const auto found, waiter_.places_of<tcp>(address));
  const auto end = std::chrono::steady_clock::now() + patience_.connect;
  const auto left = [&] {
    return std::chrono::ceil<milliseconds>(end - std::chrono::steady_clock::now());
  };
  while (left().count() > 0) {
    WEXLO_CHECK(until(
        [&](auto done) {
          asio::async_connect(socket_, found,
                              [done](const asio::error_code& code, const auto&) { done(code); });
        },
        left(), "nobody answers"));
    WEXLO_TRY(const bool greeted, shake_hands(std::min(kGreeting, left())));
    if (greeted) return {};
    asio::error_code ignored;
    socket_.close(ignored);
  }
  return fail(waiter_.lost("it does not greet"));
}

Result<bool> TcpStream::shake_hands(milliseconds limit) {
  constexpr std::string_view kOwn = "FB01";
  asio::error_code ignored;
  // One message waits for the other's answer: nothing is gained by gathering them.
  socket_.set_option(tcp::no_delay(true), ignored);
  WEXLO_CHECK(until(
      [&](auto done) {
        asio::async_write(socket_, asio::buffer(kOwn.data(), kOwn.size()),
                          [done](const asio::error_code& code, std::size_t) { done(code); });
      },
      limit, "it takes nothing"));
  Bytes theirs(kOwn.size());
  WEXLO_TRY(const bool answered, reads(theirs, limit));
  if (!answered) return false;
  const std::string_view text = as_text(theirs);
  const bool digits = text.find_first_not_of("0123456789", 2) == text.npos;
  // A later version speaks ours, too: the lower of both is used.
  if (text.starts_with("FB") && digits && text != "FB00") return true;
  return fail({.code = ErrorCode::LinkLost,
               .message = "what answers there does not speak a bootloader's protocol",
               .file = waiter_.where(),
               .expected = "FB and a version",
               .found = std::string(text)});
}

Status TcpStream::send(View message) {
  return send_data(message, false);
}

Status TcpStream::send_data(View piece, bool) {
  std::byte head[8];
  store<std::uint64_t, BE>(head, piece.size());
  const std::array<asio::const_buffer, 2> both{asio::buffer(head, sizeof head),
                                               asio::buffer(piece.data(), piece.size())};
  return until(
      [&](auto done) {
        asio::async_write(socket_, both,
                          [done](const asio::error_code& code, std::size_t) { done(code); });
      },
      patience_.reply, "it takes nothing more");
}

Result<bool> TcpStream::reads(MutableView bytes, milliseconds limit) {
  return in_time(
      [&](auto done) {
        asio::async_read(socket_, asio::buffer(bytes.data(), bytes.size()),
                         [done](const asio::error_code& code, std::size_t) { done(code); });
      },
      limit);
}

Status TcpStream::read(MutableView bytes) {
  WEXLO_TRY(const bool done, reads(bytes, patience_.reply));
  return done ? Status() : fail(waiter_.lost("it says nothing more"));
}

Result<std::uint64_t> TcpStream::read_length() {
  std::byte head[8];
  WEXLO_CHECK(read(head));
  return load<std::uint64_t, BE>(head);
}

Result<Bytes> TcpStream::receive() {
  WEXLO_TRY(const std::uint64_t size, read_length());
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

Status TcpStream::receive_data(MutableView out) {
  while (!out.empty()) {
    while (left_ == 0) {
      WEXLO_TRY(left_, read_length());
    }
    const auto size = static_cast<std::size_t>(std::min<std::uint64_t>(left_, out.size()));
    WEXLO_CHECK(read(out.first(size)));
    left_ -= size;
    out = out.subspan(size);
  }
  return {};
}

Result<LinkPtr> connect_tcp(const PhoneAddress& address, const Context& context,
                            const Patience& patience) {
  auto link = std::make_unique<TcpStream>(address_text(address), context, patience);
  WEXLO_CHECK(link->connect(address));
  return link;
}

}  // namespace wexlo
