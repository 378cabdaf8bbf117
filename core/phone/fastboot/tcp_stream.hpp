#pragma once
/// The protocol over TCP, of either end: four bytes `FB` and a version both ways, then every
/// message behind its length (64 bits, big-endian). A data phase may come in several of them.

#include "phone/fastboot/wait.hpp"

namespace wexlo {

class TcpStream final : public Link {
 public:
  TcpStream(std::string where, const Context& context, const Patience& patience);

  [[nodiscard]] asio::io_context& io() { return waiter_.io(); }
  [[nodiscard]] asio::ip::tcp::socket& socket() { return socket_; }
  /// Errors: LinkLost (nobody there, or of another protocol), Interrupted.
  [[nodiscard]] Status connect(const PhoneAddress& address);
  /// The greeting of both ends, on a socket that is open.
  /// @param limit  how long the other end may be silent  @return false: it was
  [[nodiscard]] Result<bool> shake_hands(milliseconds limit);
  /// Both ends greet at once: who says nothing for so long is not going to.
  static constexpr milliseconds kGreeting{2000};

  Status send(View message) override;
  Result<Bytes> receive() override;
  Status send_data(View piece, bool more) override;
  Status receive_data(MutableView out) override;
  void bear_silence(milliseconds limit) override { patience_.reply = limit; }

 private:
  Status read(MutableView bytes);
  Result<bool> reads(MutableView bytes, milliseconds limit);
  Result<std::uint64_t> read_length();
  template <class Start>
  Result<bool> in_time(Start start, milliseconds limit);
  template <class Start>
  Status until(Start start, milliseconds limit, const char* otherwise);

  Patience patience_;
  Waiter waiter_;
  asio::ip::tcp::socket socket_;
  std::uint64_t left_ = 0;  ///< of a message that came as a piece of a data phase
};

}  // namespace wexlo
