#include "seal/signing.hpp"

namespace wexlo {

Result<verified::SignerPtr> find_signer(const std::string& key, const std::string& program,
                                        const Context& context, std::vector<Finding>& findings) {
  if (!program.empty()) {
    if (key.empty())
      return fail({.code = ErrorCode::Usage,
                   .message = "--signer needs the public key that belongs to it",
                   .hint = "Add --key PUBKEY."});
    WEXLO_TRY(Bytes blob, verified::load_public_key(key));
    return verified::program_signer(program, std::move(blob), context);
  }
  if (key.empty()) return verified::SignerPtr();
  WEXLO_TRY(verified::SignerPtr signer, verified::load_signer(key));
  if (verified::is_readable_by_others(key))
    findings.push_back({Level::Warning, FindingCode::KeyReadable,
                        "Others than its owner may read this signing key: chmod 600 it.", key});
  return signer;
}

}  // namespace wexlo
