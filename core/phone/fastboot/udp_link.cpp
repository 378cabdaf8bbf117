/// The protocol over UDP: packets of a kind, flags and a sequence number, each answered by exactly
/// one of the same number. What is not answered is sent again; the phone knows it by its number.

#include "phone/fastboot/udp_packet.hpp"
#include "phone/fastboot/wait.hpp"

namespace wexlo {
namespace {

using asio::ip::udp;
using namespace udp_packet;

class UdpLink final : public Link {
 public:
  UdpLink(const PhoneAddress& address, const Context& context, const Patience& patience)
      : address_(address),
        patience_(patience),
        waiter_(address_text(address), context),
        socket_(waiter_.io()) {}

  Status open() {
    WEXLO_TRY(const auto found, waiter_.places_of<udp>(address_));
    // Of several places only the answer tells where the phone is.
    asio::error_code failed;
    Result<Bytes> next = fail(waiter_.lost("nobody answers"));
    const auto share = patience_.connect / std::max<std::size_t>(found.size(), 1);
    for (const auto& one : found) {
      socket_ = udp::socket(waiter_.io());
      socket_.open(one.endpoint().protocol(), failed);
      if (!failed) socket_.connect(one.endpoint(), failed);
      if (failed) continue;
      next = exchange(kQuery, 0, {}, share);
      if (next || next.error().code == ErrorCode::Interrupted) break;
    }
    if (!next) return fail(std::move(next).error());
    WEXLO_TRY(sequence_, number_in(*next, 0));
    return agree();
  }

  Status send(View message) override { return send_data(message, false); }

  Status send_data(View bytes, bool more) override {
    const std::size_t room = most_ - kHead;
    for (std::size_t at = 0; at < std::max<std::size_t>(bytes.size(), 1); at += room) {
      const View piece = bytes.subspan(at, std::min(room, bytes.size() - at));
      const bool goes_on = more || at + piece.size() < bytes.size();
      WEXLO_TRY(const Bytes reply,
                exchange(kMessage, goes_on ? kContinues : 0, piece, patience_.reply));
      // A reply that comes at once belongs to what receive() asks for.
      append(early_, reply);
    }
    return {};
  }

  Status receive_data(MutableView out) override {
    while (!out.empty()) {
      if (early_.empty()) {
        WEXLO_TRY(early_, exchange(kMessage, 0, {}, patience_.reply));
        continue;
      }
      const std::size_t size = std::min(early_.size(), out.size());
      std::ranges::copy(View(early_).first(size), out.begin());
      early_.erase(early_.begin(), early_.begin() + static_cast<std::ptrdiff_t>(size));
      out = out.subspan(size);
    }
    return {};
  }

  void bear_silence(milliseconds limit) override { patience_.reply = limit; }

  Result<Bytes> receive() override {
    Bytes out = std::exchange(early_, {});
    const auto deadline = std::chrono::steady_clock::now() + patience_.reply;
    while (out.empty() || continues_) {
      if (out.size() > kMaxMessage)
        return fail({.code = ErrorCode::LimitExceeded,
                     .message = "the phone sends a reply longer than any is",
                     .file = waiter_.where(),
                     .expected = fmt::format("at most {} bytes", kMaxMessage)});
      if (std::chrono::steady_clock::now() > deadline)
        return fail(waiter_.lost("it says nothing more"));
      WEXLO_TRY(const Bytes more, exchange(kMessage, 0, {}, patience_.reply));
      append(out, more);
    }
    return out;
  }

 private:
  /// Version and packet size: the lower of both sides' is used.
  Status agree() {
    Bytes own;
    BeWriter(own).put<std::uint16_t>(kVersion);
    BeWriter(own).put<std::uint16_t>(kOwnMost);
    WEXLO_TRY(const Bytes theirs, exchange(kInit, 0, own, patience_.connect));
    WEXLO_TRY(const std::uint16_t version, number_in(theirs, 0));
    WEXLO_TRY(const std::uint16_t most, number_in(theirs, 2));
    if (version == 0 || most < kSmallest)
      return fail({.code = ErrorCode::LinkLost,
                   .message = "the phone offers what the protocol does not allow",
                   .file = waiter_.where(),
                   .expected = fmt::format("version 1 and packets of {} bytes or more", kSmallest),
                   .found = fmt::format("version {} and {} bytes", version, most)});
    most_ = std::min<std::size_t>(most, kOwnMost);
    return {};
  }

  /// Errors: LinkLost (there is none).
  Result<std::uint16_t> number_in(View answer, std::size_t at) const {
    if (answer.size() < at + 2) return fail(waiter_.lost("its answer is cut short"));
    return load<std::uint16_t, BE>(&answer[at]);
  }
  /// Sends a packet until its answer comes; gives what the answer carries. Each wait is twice the
  /// one before: a phone that works for minutes hears nothing meanwhile, and its few places for
  /// packets must not run over with the same one.
  Result<Bytes> exchange(Kind kind, std::uint8_t flags, View data, milliseconds limit) {
    constexpr milliseconds kLongest{30'000};
    const Bytes packet = packed(kind, flags, sequence_, data);
    const auto deadline = std::chrono::steady_clock::now() + limit;
    for (milliseconds wait = patience_.resend;; wait = std::min(wait * 2, kLongest)) {
      const auto left =
          std::chrono::ceil<milliseconds>(deadline - std::chrono::steady_clock::now());
      if (left.count() <= 0) break;
      asio::error_code failed;
      socket_.send(asio::buffer(packet.data(), packet.size()), 0, failed);
      // Nobody there yet is told by the next call on the socket: as good as lost on the way.
      if (failed && failed != asio::error::connection_refused)
        return fail(waiter_.lost(failed.message()));
      WEXLO_TRY(const auto answer, answer_to(kind, std::min(wait, left)));
      if (!answer) continue;
      if (kind == kMessage || kind == kInit) ++sequence_;
      continues_ = (answer->flags & kContinues) != 0;
      return to_bytes(answer->data);
    }
    return fail(waiter_.lost("nobody answers"));
  }

  /// Waits for the answer of that kind and of the sequence number sent. What else comes is late.
  /// nullopt: none came in time.
  Result<std::optional<Packet>> answer_to(Kind kind, milliseconds wait) {
    const auto until = std::chrono::steady_clock::now() + wait;
    for (;;) {
      const auto left =
          std::chrono::duration_cast<milliseconds>(until - std::chrono::steady_clock::now());
      if (left.count() <= 0) return std::nullopt;
      WEXLO_TRY(const bool came, waiter_.readable(socket_.native_handle(), left));
      if (!came) return std::nullopt;
      asio::error_code failed;
      std::size_t size = socket_.receive(asio::buffer(room_.data(), room_.size()), 0, failed);
      // Nobody there yet: as good as lost on the way.
      if (failed == asio::error::connection_refused)
        size = 0;
      else if (failed)
        return fail(waiter_.lost(failed.message()));
      const auto packet = unpacked(View(room_).first(size));
      // A query is what asks for the number: its own says nothing.
      if (!packet || (kind != kQuery && packet->sequence != sequence_)) continue;
      if (packet->kind == kError)
        return fail({.code = ErrorCode::LinkLost,
                     .message = "the phone ended the link",
                     .file = waiter_.where(),
                     .found = std::string(as_text(packet->data))});
      if (packet->kind == kind) return packet;
    }
  }

  PhoneAddress address_;
  Patience patience_;
  Waiter waiter_;
  udp::socket socket_;
  std::uint16_t sequence_ = 0;
  std::size_t most_ = kSmallest;
  bool continues_ = false;  ///< the last answer's message goes on
  Bytes early_, room_ = Bytes(kLargest);
};

}  // namespace

Result<LinkPtr> connect_udp(const PhoneAddress& address, const Context& context,
                            const Patience& patience) {
  auto link = std::make_unique<UdpLink>(address, context, patience);
  WEXLO_CHECK(link->open());
  return link;
}

}  // namespace wexlo
