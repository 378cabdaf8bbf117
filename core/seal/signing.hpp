#pragma once
/// A signing key as people name it: a file, or a program that holds it.

#include <string>
#include <vector>

#include "base/finding.hpp"
#include "base/pool.hpp"
#include "verified/key.hpp"

namespace wexlo {

/// @param key      a private key's file; with a program, the public key that belongs to its key
/// @param program  of an external signer; empty: none
/// nullptr: neither was given. Errors: Usage (a program without a key), those of reading.
/// A key file that others may read is told in `findings`.
[[nodiscard]] Result<verified::SignerPtr> find_signer(const std::string& key,
                                                      const std::string& program,
                                                      const Context& context,
                                                      std::vector<Finding>& findings);

}  // namespace wexlo
