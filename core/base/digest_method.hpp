#pragma once
/// OpenSSL's word for a digest, for those who sign or count with it.

#include "base/digest.hpp"

struct evp_md_st;

namespace wexlo {

[[nodiscard]] const evp_md_st* digest_method(DigestKind kind);

}  // namespace wexlo
