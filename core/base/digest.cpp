#include "base/digest.hpp"

#include <openssl/evp.h>

#include <new>

namespace wexlo {

struct Hasher::State {
  EVP_MD_CTX* context = EVP_MD_CTX_new();
  ~State() { EVP_MD_CTX_free(context); }
};

Hasher::Hasher(DigestKind kind) : state_(std::make_unique<State>()) {
  const EVP_MD* method = kind == DigestKind::Sha1     ? EVP_sha1()
                         : kind == DigestKind::Sha256 ? EVP_sha256()
                                                      : EVP_sha512();
  // Both calls fail only for want of memory.
  if (state_->context == nullptr || EVP_DigestInit_ex(state_->context, method, nullptr) != 1)
    throw std::bad_alloc();
}
Hasher::Hasher(Hasher&&) noexcept = default;
Hasher& Hasher::operator=(Hasher&&) noexcept = default;
Hasher::~Hasher() = default;

void Hasher::update(View bytes) {
  EVP_DigestUpdate(state_->context, bytes.data(), bytes.size());
}

Bytes Hasher::finish() {
  Bytes out(EVP_MAX_MD_SIZE);
  unsigned size = 0;
  EVP_DigestFinal_ex(state_->context, reinterpret_cast<unsigned char*>(out.data()), &size);
  out.resize(size);
  return out;
}

Bytes digest(DigestKind kind, View bytes) {
  Hasher hasher(kind);
  hasher.update(bytes);
  return hasher.finish();
}

std::string sha256_hex(View bytes) {
  return hex(digest(DigestKind::Sha256, bytes));
}

}  // namespace wexlo
