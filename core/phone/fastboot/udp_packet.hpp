#pragma once
/// Packets of the protocol over UDP: a kind, flags, a sequence number (16 bits, big-endian), data.

#include "base/bytes.hpp"

namespace wexlo::udp_packet {

inline constexpr std::size_t kHead = 4, kSmallest = 512, kLargest = 64u << 10, kOwnMost = 2048;
inline constexpr std::uint16_t kVersion = 1;
enum Kind : std::uint8_t { kError, kQuery, kInit, kMessage };
inline constexpr std::uint8_t kContinues = 1;  ///< a flag: the message goes on in the next packet

[[nodiscard]] inline Bytes packed(Kind kind, std::uint8_t flags, std::uint16_t sequence,
                                  View data) {
  Bytes out;
  out.reserve(kHead + data.size());
  BeWriter writer(out);
  writer.put<std::uint8_t>(kind);
  writer.put<std::uint8_t>(flags);
  writer.put<std::uint16_t>(sequence);
  writer.put(data);
  return out;
}

struct Packet {
  std::uint8_t kind = 0, flags = 0;
  std::uint16_t sequence = 0;
  View data;
};
/// nullopt: shorter than its head.
[[nodiscard]] inline std::optional<Packet> unpacked(View bytes) {
  if (bytes.size() < kHead) return std::nullopt;
  return Packet{load<std::uint8_t, BE>(bytes.data()), load<std::uint8_t, BE>(&bytes[1]),
                load<std::uint16_t, BE>(&bytes[2]), bytes.subspan(kHead)};
}

}  // namespace wexlo::udp_packet
