#include "seal/seal.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <charconv>

#include "commands.hpp"
#include "firmware/firmware.hpp"
#include "options.hpp"
#include "reply.hpp"
#include "seal/signing.hpp"
#include "size_text.hpp"
#include "text/hex.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

struct SealArguments {
  std::vector<std::string> images, sizes, rollback, flags, properties, chains, includes;
  std::string output, key, signer, sign_digest, footer, digest, salt, fec, new_vbmeta;
  std::string older = "keep", older_key, older_certificate;
  bool force = false;
};

Status usage(std::string message, const std::string& found, std::string expected) {
  return fail({.code = ErrorCode::Usage,
               .message = std::move(message),
               .expected = std::move(expected),
               .found = found});
}

constexpr std::uint64_t kMostPartition = std::uint64_t{1} << 44;

/// `PARTITION=VALUE`; else the value alone, for the only image.
SealOptions::Named named(const std::string& text) {
  const std::size_t equals = text.find('=');
  if (equals == std::string::npos) return {"", "", text};
  return {text.substr(0, equals), "", text.substr(equals + 1)};
}

/// `PARTITION=KEY=VALUE`, or `KEY=VALUE`: keys of properties have dots, names of partitions none.
std::optional<SealOptions::Named> property_of(const std::string& text) {
  SealOptions::Named out{"", "", text};
  const std::size_t first = text.find('=');
  const bool has_partition = first != text.npos && first > 0 && text.find('.') > first &&
                             text.find('=', first + 1) != text.npos;
  if (has_partition) out = {text.substr(0, first), "", text.substr(first + 1)};
  const std::size_t equals = out.value.find('=');
  if (equals == 0 || equals == std::string::npos) return std::nullopt;
  out.key = out.value.substr(0, equals);
  out.value.erase(0, equals + 1);
  return out;
}

Status read_sizes(const SealArguments& options, SealOptions& out) {
  for (const std::string& one : options.sizes) {
    const std::size_t equals = one.find('=');
    const bool has_name = equals != std::string::npos;
    const auto size =
        size_from(has_name ? std::string_view(one).substr(equals + 1) : one, kMostPartition);
    if (!size)
      return usage("a partition's size does not read", one,
                   "bytes, decimal or 0x…, with K, M or G behind them");
    out.sizes[has_name ? one.substr(0, equals) : ""] = *size;
  }
  return {};
}

/// What one chain asks for; location 0: it does not read.
struct ChainWords {
  std::string partition, key;
  unsigned location = 0;
};

/// `PARTITION=PUBKEY@LOCATION`; as it was spelled before, `PARTITION@LOCATION=PUBKEY`, too.
ChainWords chain_words(const std::string& text) {
  ChainWords out;
  const std::size_t equals = text.find('='), before = text.find('@');
  if (equals == text.npos) return out;
  const bool old = before < equals;
  const std::size_t at = old ? before : text.rfind('@');
  if (at == text.npos || at < (old ? 0 : equals)) return out;
  out.partition = text.substr(0, std::min(at, equals));
  out.key = old ? text.substr(equals + 1) : text.substr(equals + 1, at - equals - 1);
  const char* const begin = text.data() + at + 1;
  const char* const end = text.data() + (old ? equals : text.size());
  if (std::from_chars(begin, end, out.location).ptr != end) out.location = 0;
  return out;
}

Status read_chains(const SealArguments& options, SealOptions& out) {
  constexpr unsigned kMostLocation = 31;
  for (const std::string& one : options.chains) {
    ChainWords words = chain_words(one);
    if (words.partition.empty() || words.location == 0 || words.location > kMostLocation)
      return usage("--chain does not read", one,
                   "PARTITION=PUBKEY@LOCATION with a location from 1 to 31");
    WEXLO_TRY(Bytes key, verified::load_public_key(words.key));
    out.chains.push_back({std::move(words.partition), words.location, std::move(key)});
  }
  return {};
}

Status read_named(const SealArguments& options, SealOptions& out) {
  for (const std::string& one : options.rollback)
    out.rollback.push_back(named(one));
  for (const std::string& one : options.flags)
    out.flags.push_back(named(one));
  for (const std::string& one : options.properties) {
    auto property = property_of(one);
    if (!property) return usage("--property does not read", one, "[PARTITION=]KEY=VALUE");
    out.properties.push_back(std::move(*property));
  }
  return {};
}

Status read_footer(const SealArguments& options, SealOptions& out) {
  if (!options.footer.empty())
    out.kind = options.footer == "hash" ? FooterKind::Hash : FooterKind::Tree;
  if (!options.digest.empty()) out.algorithm = options.digest;
  if (!options.salt.empty()) {
    constexpr std::size_t kMostSalt = 256;  // bytes
    out.salt = bytes_of_hex(options.salt);
    if (!out.salt || out.salt->size() > kMostSalt)
      return usage("--salt does not read", options.salt, "hex, at most 256 bytes");
  }
  if (!options.fec.empty()) {
    unsigned roots = 99;
    std::from_chars(options.fec.data(), options.fec.data() + options.fec.size(), roots);
    if (roots != 0 && (roots < 2 || roots > 24))
      return usage("--fec does not read", options.fec, "0 (none), or 2 to 24 roots");
    out.fec_roots = roots;
  }
  return {};
}

Status read_older(const SealArguments& options, SealOptions& out) {
  out.older = options.older == "keep"    ? OlderSignature::Keep
              : options.older == "strip" ? OlderSignature::Strip
                                         : OlderSignature::Remake;
  const std::string& key = options.older_key.empty() ? options.key : options.older_key;
  if (out.older != OlderSignature::Remake) return {};
  if (key.empty())
    return fail({.code = ErrorCode::Usage,
                 .message = "the older signature is made with a key",
                 .hint = "Add --older-key KEY.pem."});
  for (const auto& [path, text] : {std::pair(&key, &out.older_key),
                                   std::pair(&options.older_certificate, &out.older_certificate)}) {
    if (path->empty()) continue;
    WEXLO_TRY(const SourcePtr source, open_file(*path));
    WEXLO_TRY(const Blob bytes, read_all(*source, 64u << 10));
    *text = as_text(bytes.view());
  }
  return {};
}

Result<SealOptions> core_options(const SealArguments& options, const Session& session,
                                 std::vector<Finding>& findings) {
  SealOptions out{.includes = options.includes,
                  .new_vbmeta = options.new_vbmeta,
                  .overwrite = options.force ? Overwrite::Replace : Overwrite::Refuse};
  if (!options.sign_digest.empty())
    out.signed_digest = options.sign_digest == "sha512" ? DigestKind::Sha512 : DigestKind::Sha256;
  if (!out.new_vbmeta.empty() && !is_vbmeta(out.new_vbmeta))
    return std::unexpected(
        usage("a new struct's partition is called vbmeta or vbmeta_…", out.new_vbmeta, "vbmeta")
            .error());
  WEXLO_CHECK(read_sizes(options, out));
  WEXLO_CHECK(read_chains(options, out));
  WEXLO_CHECK(read_named(options, out));
  WEXLO_CHECK(read_footer(options, out));
  WEXLO_CHECK(read_older(options, out));
  WEXLO_TRY(out.signer, find_signer(options.key, options.signer, session.context, findings));
  return out;
}

Result<Reply> run_seal(const SealArguments& options, const Session& session) {
  Reply reply;
  WEXLO_TRY(const SealOptions core, core_options(options, session, reply.findings));
  WEXLO_TRY(const Sealed sealed, seal(options.images, core, options.output, session.context));
  Json images = Json::array();
  for (const SealedImage& one : sealed.images) {
    const std::string file = options.output + "/" + one.file;
    images.push_back({{"partition", one.partition},
                      {"file", file},
                      {"size", one.size},
                      {"sha256", one.sha256.empty() ? Json() : Json(one.sha256)},
                      {"algorithm", one.algorithm},
                      {"public_key_sha256",
                       one.public_key_sha256.empty() ? Json() : Json(one.public_key_sha256)},
                      {"done", one.done}});
    reply.text += fmt::format("{}\n", session.paint.heading(printable(one.partition)));
    for (const std::string& done : one.done)
      reply.text += fmt::format("  {}\n", printable(done));
    reply.text += fmt::format("  {}, {} bytes{}\n", printable(file), one.size,
                              one.sha256.empty() ? "" : ", SHA-256 " + one.sha256);
  }
  reply.result = {{"folder", options.output}, {"images", images}};
  reply.findings.insert(reply.findings.end(), sealed.findings.begin(), sealed.findings.end());
  return reply;
}

}  // namespace

void add_seal(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<SealArguments>();
  Command(commands, "seal")
      .operand("IMAGE", options->images, "Images, or PARTITION=FILE; those that belong together")
      .option("-o,--output", "DIR", options->output, "Folder for the sealed images", Need::Required)
      .section(Section::Signing)
      .option("--key", "KEY", options->key,
              "Signing key (PEM); with --signer, the public key that belongs to it")
      .option("--signer", "PROGRAM", options->signer,
              "Signs: started with REQUEST.toml and ANSWER.bin, it writes the signature there")
      .choice("--sign-digest", {"sha256", "sha512"}, options->sign_digest,
              "Digest of the signature; as before, else sha256")
      .section(Section::Main)
      .option("--partition-size", "[PARTITION=]SIZE", options->sizes,
              "Size of a partition, for an image without a footer")
      .choice("--footer", {"hash", "tree"}, options->footer,
              "Kind of a footer; as before, else by what the image is")
      .choice("--digest", {"sha1", "sha256", "sha512"}, options->digest,
              "Digest of images and trees; as before, else sha256")
      .option("--salt", "HEX", options->salt, "Salt; as before, else one from name and size")
      .option("--fec", "ROOTS", options->fec,
              "Error correction beside a tree: 0 none, else 2 to 24; as before, else 2")
      .option("--rollback", "[PARTITION=]N", options->rollback, "Set a rollback index")
      .option("--flag", "[PARTITION=]FLAG", options->flags,
              "Set vbmeta's flags: hashtree-disabled, verification-disabled, none")
      .option("--property", "[PARTITION=]KEY=VALUE", options->properties, "Set a property")
      .option("--chain", "PARTITION=PUBKEY@LOCATION", options->chains,
              "Let vbmeta chain a partition that is signed with that key")
      .option("--include", "IMAGE", options->includes,
              "Let vbmeta cover this image, too, by its own footer")
      .option("--new-vbmeta", "NAME", options->new_vbmeta, "Make a vbmeta that covers the images")
      .choice("--older-signature", {"keep", "strip", "remake"}, options->older,
              "The older signature behind a boot image")
      .option("--older-key", "KEY", options->older_key, "Key for it; without, --key's")
      .option("--older-certificate", "CERT", options->older_certificate,
              "Certificate for it; without, one is made for the key")
      .flag("--force", options->force, "Replace images that are there already")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "seal", run_seal(*options, session));
      });
}

}  // namespace wexlo::cli
