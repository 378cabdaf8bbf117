#pragma once
/// The older boot signature: a DER sequence directly behind the sections of an image, over the
/// image and a few attributes: docs/formats/vbmeta.md, "The older signature".

#include <optional>
#include <string>

#include "base/bytes.hpp"

namespace wexlo::verified {

struct OlderSignatureInfo {
  std::string target;        ///< what the image is for, e.g. "/boot"
  std::uint64_t length = 0;  ///< bytes of the image that are signed
  std::size_t size = 0;      ///< of the whole sequence
  std::string algorithm;     ///< "sha256-rsa2048" and the like; empty: not known
  std::string certificate_sha256, subject;
  bool holds = false;  ///< the signature is valid for the image, with the key in its certificate
};
/// @param at  bytes from where the signature stands  @param image  bytes before it
/// nullopt: there is none, or it does not read.
[[nodiscard]] std::optional<OlderSignatureInfo> older_signature(View at, View image);

/// A signature over an image, SHA-256 with RSA.
/// @param key          PEM private key
/// @param certificate  PEM; empty: one is made for the key, the same each time
/// Errors: BadValue (a key or certificate that does not read, or the two do not belong together).
[[nodiscard]] Result<Bytes> make_older_signature(View image, const std::string& target,
                                                 std::string_view key,
                                                 std::string_view certificate);

/// The same with Wexlo's own key, which is no secret: for loaders that want a valid signature,
/// whoever made it. Errors: Internal.
[[nodiscard]] Result<Bytes> renewed_older_signature(View image, const std::string& target);
/// Whether a tail begins with one that was made so.
[[nodiscard]] bool has_renewed_signature(View tail);

}  // namespace wexlo::verified
