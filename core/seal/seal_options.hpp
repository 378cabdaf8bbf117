#pragma once
/// What sealing is told, and what it tells.

#include <filesystem>
#include <map>

#include "base/finding.hpp"
#include "base/output.hpp"
#include "seal/seal_image.hpp"
#include "verified/older_signature.hpp"

namespace wexlo {

enum class OlderSignature { Keep, Strip, Remake };

struct SealOptions {
  verified::SignerPtr signer;  ///< nullptr: structs that change are unsigned afterwards
  std::optional<DigestKind> signed_digest;     ///< nullopt: as before, else SHA-256
  std::map<std::string, std::uint64_t> sizes;  ///< of partitions, by name; "" for the only image
  std::optional<FooterKind> kind;              ///< nullopt: as before, else by what is in it
  std::optional<std::string> algorithm;        ///< of digests and trees; nullopt: as before
  std::optional<Bytes> salt;
  std::optional<unsigned> fec_roots;  ///< nullopt: as before, else 2
  struct Named {
    std::string partition;  ///< empty: the only image
    std::string key, value;
  };
  std::vector<Named> rollback, flags, properties;  ///< value: a number, flag names, a text
  struct Chain {
    std::string partition;
    std::uint32_t location = 0;
    Bytes key;  ///< a blob
  };
  std::vector<Chain> chains;          ///< for the top-level vbmeta
  std::vector<std::string> includes;  ///< images whose claims go into vbmeta
  std::string new_vbmeta;             ///< name of a vbmeta made from nothing; empty: none
  OlderSignature older = OlderSignature::Keep;
  std::string older_key, older_certificate;  ///< PEM
  Overwrite overwrite = Overwrite::Refuse;
};

struct SealedImage {
  std::string partition, file;  ///< file: its name in the folder
  std::uint64_t size = 0;
  std::string sha256;  ///< empty: not counted, of images over 128 MiB
  std::string algorithm, public_key_sha256;
  std::vector<std::string> done;  ///< what was renewed, a clause each
};

struct Sealed {
  std::vector<SealedImage> images;
  std::vector<Finding> findings;
};

struct SealInput {
  std::string partition;
  SourcePtr source;
};

}  // namespace wexlo
