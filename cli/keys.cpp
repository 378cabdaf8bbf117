#include <fmt/format.h>

#include <charconv>

#include "base/digest.hpp"
#include "base/output.hpp"
#include "commands.hpp"
#include "options.hpp"
#include "reply.hpp"
#include "text/hex.hpp"
#include "text/text.hpp"
#include "verified/bench_key.hpp"
#include "verified/key.hpp"

namespace wexlo::cli {
namespace {

struct KeysArguments {
  std::string file, output, pem, bits = "4096";
  bool force = false, bench = false;
};

/// What can be said of a key without giving it away.
void describe_key(const std::string& path, View blob, Reply& reply) {
  reply.result["file"] = path;
  reply.result["bits"] = verified::key_bits(blob);
  reply.result["public_key_sha256"] = sha256_hex(blob);
  reply.result["public_key_sha1"] = hex(digest(DigestKind::Sha1, blob));
  reply.text +=
      fmt::format("{}\n  RSA {} bits\n  public key blob: {} bytes, SHA-256 {}\n", printable(path),
                  verified::key_bits(blob), blob.size(), sha256_hex(blob));
}

/// The public side in the forms that were asked for.
Status write_public(const KeysArguments& options, View blob, Overwrite overwrite, Reply& reply) {
  if (!options.output.empty()) {
    WEXLO_CHECK(write_file(options.output, blob, overwrite));
    reply.result["public_key"] = options.output;
    reply.text += fmt::format("  public key blob: {}\n", printable(options.output));
  }
  if (options.pem.empty()) return {};
  WEXLO_CHECK(write_file(options.pem, as_view(verified::public_key_pem(blob)), overwrite));
  reply.result["pem"] = options.pem;
  reply.text += fmt::format("  public key as PEM: {}\n", printable(options.pem));
  return {};
}

Result<Reply> make_key(const KeysArguments& options, const Context& context) {
  const Overwrite overwrite = options.force ? Overwrite::Replace : Overwrite::Refuse;
  unsigned bits = 0;
  std::from_chars(options.bits.data(), options.bits.data() + options.bits.size(), bits);
  WEXLO_CHECK(check_absent(options.file, overwrite));
  WEXLO_TRY(const std::string pem, verified::new_private_key(bits, context));
  WEXLO_TRY(const auto signer, verified::signer_of(pem));
  WEXLO_CHECK(write_file(options.file, as_view(pem), overwrite, Flush::Wait, Readers::OwnerAlone));
  Reply reply;
  describe_key(options.file, signer->public_key(), reply);
  reply.text += "  a new signing key, readable by you alone: keep a copy where nobody else is\n";
  WEXLO_CHECK(write_public(options, signer->public_key(), overwrite, reply));
  return reply;
}

Result<Reply> show_key(const KeysArguments& options) {
  const Overwrite overwrite = options.force ? Overwrite::Replace : Overwrite::Refuse;
  WEXLO_TRY(const Bytes blob, verified::load_public_key(options.file));
  Reply reply;
  describe_key(options.file, blob, reply);
  WEXLO_CHECK(write_public(options, blob, overwrite, reply));
  return reply;
}

/// Two names of one file: the second would replace what the first wrote.
bool same_file(const std::string& one, const std::string& other) {
  std::error_code ignored;
  const auto place = [&](const std::string& path) {
    return std::filesystem::weakly_canonical(std::filesystem::absolute(path, ignored), ignored);
  };
  return !one.empty() && !other.empty() && place(one) == place(other);
}

/// The files that are written are neither the key nor each other, and not there yet.
Status check_targets(const KeysArguments& options) {
  for (const std::string& target : {options.output, options.pem})
    if (!target.empty()) {
      WEXLO_CHECK(check_not_input(target, {options.file}));
      WEXLO_CHECK(check_absent(target, options.force ? Overwrite::Replace : Overwrite::Refuse));
    }
  if (same_file(options.output, options.pem) || same_file(options.output, options.file) ||
      same_file(options.pem, options.file))
    return fail({.code = ErrorCode::Usage,
                 .message = "two of the files are the same one",
                 .file = options.output.empty() ? options.pem : options.output,
                 .hint = "Give each its own name."});
  return {};
}

/// A key that signs records: of another kind than those that sign images.
Result<Reply> make_bench_key(const KeysArguments& options) {
  if (!options.output.empty() || !options.pem.empty())
    return fail({.code = ErrorCode::Usage,
                 .message = "a bench's key has no public key blob and no certificate",
                 .hint = "Its public half stands in each entry that it signs."});
  const Overwrite overwrite = options.force ? Overwrite::Replace : Overwrite::Refuse;
  WEXLO_CHECK(check_absent(options.file, overwrite));
  WEXLO_TRY(const std::string pem, verified::new_bench_key());
  WEXLO_TRY(const auto key, verified::read_bench_key(pem));
  WEXLO_CHECK(write_file(options.file, as_view(pem), overwrite, Flush::Wait, Readers::OwnerAlone));
  Reply reply;
  reply.result = {{"file", options.file}, {"ed25519_public_key", hex(key->public_key())}};
  reply.text = fmt::format(
      "{}\n  Ed25519\n  public key: {}\n  a new key for records, readable by you alone: the "
      "setting "
      "bench_key names it\n",
      printable(options.file), hex(key->public_key()));
  return reply;
}

Result<Reply> run_new(const KeysArguments& options, const Context& context) {
  WEXLO_CHECK(check_targets(options));
  if (options.bench) return make_bench_key(options);
  return make_key(options, context);
}

Result<Reply> run_show(const KeysArguments& options) {
  WEXLO_CHECK(check_targets(options));
  return show_key(options);
}

void add_public(Command& command, const std::shared_ptr<KeysArguments>& options) {
  command.option("-o,--output", "BLOB", options->output, "Write the public key blob there")
      .option("--pem", "FILE", options->pem, "Write the public key as PEM there")
      .flag("--force", options->force, "Replace files that are there already");
}

}  // namespace

void add_keys(Commands& commands, Session& session, int& exit_code) {
  auto made = std::make_shared<KeysArguments>();
  Command fresh(commands, "keys new");
  fresh.operand("FILE", made->file, "The key to make, as PEM")
      .choice("--bits", {"2048", "4096", "8192"}, made->bits, "Length of the key")
      .flag("--bench", made->bench, "A key that signs records (wexlo confirm --sign), Ed25519");
  add_public(fresh, made);
  fresh.runs([=, &session, &exit_code] {
    exit_code = finish(session, "keys new", run_new(*made, session.context));
  });
  auto shown = std::make_shared<KeysArguments>();
  Command show(commands, "keys show");
  show.operand("FILE", shown->file, "The key: PEM, private or public, or a public key blob");
  add_public(show, shown);
  show.runs(
      [=, &session, &exit_code] { exit_code = finish(session, "keys show", run_show(*shown)); });
}

}  // namespace wexlo::cli
