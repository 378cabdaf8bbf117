/// The phone's end over UDP: each packet of the host gets exactly one answer of the same number; a
/// repeat gets the answer that it had.

#include "phone/fastboot/listen.hpp"
#include "phone/fastboot/udp_packet.hpp"
#include "phone/fastboot/wait.hpp"

namespace wexlo {
namespace {

using asio::ip::udp;
using namespace udp_packet;

class UdpListener final : public Listener, private Link {
 public:
  UdpListener(const PhoneAddress& address, milliseconds silence, const Context& context)
      : address_(address),
        silence_(silence),
        context_(context),
        waiter_("a host", context),
        socket_(waiter_.io()),
        room_(kLargest) {}

  Status open() {
    WEXLO_TRY(const auto places, waiter_.places_of<udp>(address_));
    const udp::endpoint at = places.begin()->endpoint();
    asio::error_code failed;
    socket_.open(at.protocol(), failed);
    if (!failed) socket_.bind(at, failed);
    if (!failed) address_.port = socket_.local_endpoint(failed).port();
    if (failed) return fail(cannot_listen(failed, address_));
    return {};
  }

  std::uint16_t port() const override { return address_.port; }

  Status run(const Attend& attend) override {
    for (;;) {
      WEXLO_CHECK(check_stop(context_));
      // Until somebody begins: queries are answered on the way.
      if (!begun_) {
        const auto packet = next(milliseconds(1000));
        if (!packet && packet.error().code == ErrorCode::Interrupted) return fail(packet.error());
        continue;
      }
      begun_ = false;
      waiting_.clear();
      attend(*this);
    }
  }

 private:
  // Link, as the phone's own end.
  Status send(View message) override { return send_data(message, false); }

  Status send_data(View bytes, bool more) override {
    const std::size_t room = most_ - kHead;
    for (std::size_t at = 0; at < std::max<std::size_t>(bytes.size(), 1); at += room) {
      const View piece = bytes.subspan(at, std::min(room, bytes.size() - at));
      // It is fetched by an empty packet; one with data has to wait for its turn.
      WEXLO_TRY(const Packet packet, asked());
      if (!packet.data.empty()) return fail(waiter_.lost("the host speaks out of turn"));
      const bool goes_on = more || at + piece.size() < bytes.size();
      WEXLO_CHECK(answer(packet, goes_on ? kContinues : 0, piece));
    }
    return {};
  }

  Result<Bytes> receive() override {
    Bytes out;
    for (bool more = true; more;) {
      WEXLO_TRY(const Packet packet, asked());
      more = (packet.flags & kContinues) != 0 || (packet.data.empty() && out.empty());
      append(out, packet.data);
      if (out.size() > kMaxMessage) return fail(waiter_.lost("its command has no end"));
      WEXLO_CHECK(answer(packet, 0, {}));
    }
    return out;
  }

  Status receive_data(MutableView out) override {
    while (!out.empty()) {
      if (waiting_.empty()) {
        WEXLO_TRY(const Packet packet, asked());
        waiting_ = to_bytes(packet.data);
        WEXLO_CHECK(answer(packet, 0, {}));
        continue;
      }
      const std::size_t size = std::min(waiting_.size(), out.size());
      std::ranges::copy(View(waiting_).first(size), out.begin());
      waiting_.erase(waiting_.begin(), waiting_.begin() + static_cast<std::ptrdiff_t>(size));
      out = out.subspan(size);
    }
    return {};
  }

  void bear_silence(milliseconds limit) override { silence_ = limit; }

  /// The next packet of the conversation. Errors: LinkLost (none came, or a host began anew).
  Result<Packet> asked() {
    WEXLO_TRY(const auto packet, next(silence_));
    if (begun_) return fail(waiter_.lost("a host began anew"));
    if (!packet) return fail(waiter_.lost("the host says nothing more"));
    return *packet;
  }

  /// A packet of the next number; repeats, queries and beginnings are answered here. nullopt: none
  /// came in time, or a host began.
  Result<std::optional<Packet>> next(milliseconds limit) {
    const auto until = std::chrono::steady_clock::now() + limit;
    for (;;) {
      const auto left =
          std::chrono::duration_cast<milliseconds>(until - std::chrono::steady_clock::now());
      if (left.count() <= 0) return std::nullopt;
      WEXLO_TRY(const bool came, waiter_.readable(socket_.native_handle(), left));
      if (!came) return std::nullopt;
      asio::error_code failed;
      const std::size_t got =
          socket_.receive_from(asio::buffer(room_.data(), room_.size()), from_, 0, failed);
      const std::size_t size = failed ? 0 : got;
      const auto packet = unpacked(View(room_).first(size));
      if (!packet) continue;
      if (packet->kind == kQuery) {
        WEXLO_CHECK(query(*packet));
      } else if (packet->sequence == static_cast<std::uint16_t>(expected_ - 1) && from_ == host_ &&
                 !last_.empty()) {
        WEXLO_CHECK(put(last_));
      } else if (packet->sequence != expected_) {
        continue;
      } else if (packet->kind == kInit) {
        WEXLO_CHECK(begin(*packet));
        return std::nullopt;
      } else if (packet->kind == kMessage && from_ == host_) {
        return packet;
      }
    }
  }

  Status query(const Packet& packet) {
    Bytes number;
    BeWriter(number).put<std::uint16_t>(expected_);
    return put(packed(kQuery, 0, packet.sequence, number));
  }

  Status begin(const Packet& packet) {
    if (packet.data.size() < 4) return {};
    const auto theirs = load<std::uint16_t, BE>(&packet.data[2]);
    if (theirs < kSmallest)
      return put(packed(kError, 0, packet.sequence, as_view("packets are too small")));
    most_ = std::min<std::size_t>(theirs, kOwnMost);
    host_ = from_;
    begun_ = true;
    Bytes own;
    BeWriter(own).put<std::uint16_t>(kVersion);
    BeWriter(own).put<std::uint16_t>(kOwnMost);
    return answer(packet, 0, own);
  }

  Status answer(const Packet& packet, std::uint8_t flags, View data) {
    last_ = packed(static_cast<Kind>(packet.kind), flags, packet.sequence, data);
    expected_ = static_cast<std::uint16_t>(packet.sequence + 1);
    return put(last_);
  }

  Status put(const Bytes& bytes) {
    asio::error_code failed;
    socket_.send_to(asio::buffer(bytes.data(), bytes.size()), from_, 0, failed);
    return {};  // what is lost is asked for again
  }

  PhoneAddress address_;
  milliseconds silence_;
  Context context_;
  Waiter waiter_;
  udp::socket socket_;
  udp::endpoint from_, host_;
  Bytes room_, last_, waiting_;
  std::uint16_t expected_ = 0;
  std::size_t most_ = kSmallest;
  bool begun_ = false;
};

}  // namespace

Result<std::unique_ptr<Listener>> listen_udp(const PhoneAddress& address, milliseconds silence,
                                             const Context& context) {
  auto out = std::make_unique<UdpListener>(address, silence, context);
  WEXLO_CHECK(out->open());
  return out;
}

}  // namespace wexlo
