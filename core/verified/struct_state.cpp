/// What a walk came to; one struct looked at by itself: where it is, whether a loader accepts it,
/// whether its signature holds.

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "image/partitions.hpp"
#include "verified/chain.hpp"
#include "verified/key.hpp"
#include "verified/layout.hpp"

namespace wexlo::verified {
namespace {

constexpr std::size_t kReleaseEnd = 175, kMinorAt = 8;
constexpr std::uint32_t kNewestMinor = 3;  ///< of readers that are known
constexpr std::uint64_t kPiece = 1u << 20;

}  // namespace

std::string_view claim_kind_name(ClaimKind kind) {
  constexpr std::array<std::string_view, 3> names{"hash", "hashtree", "chain"};
  return names[static_cast<std::size_t>(kind)];
}
std::string_view claim_kind_about(ClaimKind kind) {
  constexpr std::array<std::string_view, 3> names{"digest", "hash tree", "chained struct"};
  return names[static_cast<std::size_t>(kind)];
}

std::string_view standing_name(Standing standing) {
  constexpr std::array<std::string_view, 8> names{
      "ok",        "disabled",      "unsigned",        "rollback",
      "wrong-key", "bad-signature", "digest-mismatch", "missing"};
  return names[static_cast<std::size_t>(standing)];
}

const Fault* Walk::first_stop(bool locked) const {
  const auto at = std::ranges::find_if(
      faults, [&](const Fault& one) { return locked ? one.stops_locked : one.stops_unlocked; });
  return at == faults.end() ? nullptr : &*at;
}
std::vector<std::string> Walk::left_to_phone() const {
  std::vector<std::string> out;
  for (const ChainStruct& one : structs) {
    const bool fault = std::ranges::any_of(
        faults, [&](const Fault& other) { return other.partition == one.partition; });
    if (!one.found && one.held_by.empty() && !fault) out.push_back(one.partition);
  }
  return out;
}
bool Walk::locked_starts() const {
  return !structs.empty() && first_stop(true) == nullptr;
}
bool Walk::unlocked_starts() const {
  return first_stop(false) == nullptr;
}
Outlook Walk::locked() const {
  if (locked_starts()) return Outlook::Starts;
  return structs.empty() && first_stop(true) == nullptr ? Outlook::CannotTell : Outlook::Refuses;
}
Outlook Walk::unlocked() const {
  return unlocked_starts() ? Outlook::Starts : Outlook::Refuses;
}

std::string_view outlook_name(Outlook outlook) {
  switch (outlook) {
    case Outlook::Starts: return "starts";
    case Outlook::Refuses: return "refuses";
    case Outlook::CannotTell: return "cannot-tell";
  }
  return "";
}

Status loader_accepts(View bytes) {
  const auto refuse = [](ErrorCode code, std::string message) {
    return fail({.code = code, .message = std::move(message)});
  };
  if (!looks_like_vbmeta(bytes)) return refuse(ErrorCode::BadMagic, "the magic is not AVB0");
  if (bytes.size() < kVbmetaHeader) return refuse(ErrorCode::Truncated, "it is cut short");
  if (bytes[kReleaseEnd] != std::byte{0})
    return refuse(ErrorCode::BadValue, "release_string does not end in a zero");
  const auto minor = load<std::uint32_t, std::endian::big>(bytes.data() + kMinorAt);
  if (minor > kNewestMinor)
    return refuse(ErrorCode::Unsupported,
                  fmt::format("it asks for a reader of version 1.{}", minor));
  const auto vbmeta = parse_vbmeta(Blob(to_bytes(bytes)));
  if (!vbmeta) return fail(vbmeta.error());
  const std::uint64_t type = vbmeta->number("algorithm_type");
  if (type > 6)
    return refuse(ErrorCode::Unsupported, fmt::format("algorithm {} is not known", type));
  return {};
}

Result<std::optional<StructPlace>> find_struct(const Source& partition, std::string_view name) {
  if (is_vbmeta(name)) {
    const std::uint64_t size = std::min(partition.size(), kMaxVbmeta);
    return StructPlace{0, size, false};
  }
  WEXLO_TRY(const auto footer, read_footer(partition));
  if (!footer || footer->vbmeta_size > kMaxVbmeta) return std::nullopt;
  const std::uint64_t room = footer->end - kFooterSize;
  if (footer->vbmeta_offset > room || footer->vbmeta_size > room - footer->vbmeta_offset)
    return std::nullopt;
  return StructPlace{footer->vbmeta_offset, footer->vbmeta_size, true};
}

Bytes salted_digest(DigestKind kind, View salt, View data) {
  Hasher hasher(kind);
  hasher.update(salt);
  hasher.update(data);
  return hasher.finish();
}

Result<Bytes> salted_digest(const Source& partition, DigestKind kind, View salt,
                            std::uint64_t image_size, const Context& context) {
  Hasher hasher(kind);
  hasher.update(salt);
  Bytes piece(static_cast<std::size_t>(std::min(image_size, kPiece)));
  for (std::uint64_t at = 0; at < image_size;) {
    WEXLO_CHECK(check_stop(context));
    const auto size = static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, image_size - at));
    WEXLO_CHECK(partition.read_at(at, MutableView(piece).first(size)));
    hasher.update(View(piece).first(size));
    at += size;
  }
  return hasher.finish();
}

View public_key_of(const Image& vbmeta) {
  return vbmeta.section("auxiliary")
      ->bytes.view()
      .subspan(vbmeta.number("public_key_offset"), vbmeta.number("public_key_size"));
}

SignatureState signature_state(const Image& vbmeta) {
  const std::uint64_t type = vbmeta.number("algorithm_type");
  if (type == 0) return SignatureState::None;
  const auto algorithm = algorithm_of(type);
  if (!algorithm) return SignatureState::Unknown;
  if (!own_hash_matches(vbmeta).value_or(false)) return SignatureState::Stale;
  const View authentication = vbmeta.section("authentication")->bytes.view();
  const View hash =
      authentication.subspan(vbmeta.number("hash_offset"), vbmeta.number("hash_size"));
  const View signature =
      authentication.subspan(vbmeta.number("signature_offset"), vbmeta.number("signature_size"));
  const View key = public_key_of(vbmeta);
  const bool holds =
      key_bits(key) == algorithm->bits && signature_holds(key, algorithm->digest, hash, signature);
  return holds ? SignatureState::Holds : SignatureState::Bad;
}

}  // namespace wexlo::verified
