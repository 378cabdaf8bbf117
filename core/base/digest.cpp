#include "base/digest.hpp"

#include <openssl/evp.h>

#include <new>

namespace wexlo {

struct Hasher::State {
  EVP_MD_CTX* context = EVP_MD_CTX_new();
  ~State() { EVP_MD_CTX_free(context); }
};

const evp_md_st* digest_method(DigestKind kind) {
  switch (kind) {
    case DigestKind::Md5: return EVP_md5();
    case DigestKind::Sha1: return EVP_sha1();
    case DigestKind::Sha256: return EVP_sha256();
    case DigestKind::Sha512: return EVP_sha512();
  }
  return EVP_sha256();
}

Hasher::Hasher(DigestKind kind) : state_(std::make_unique<State>()) {
  // Both calls fail only for want of memory.
  if (state_->context == nullptr ||
      EVP_DigestInit_ex(state_->context, digest_method(kind), nullptr) != 1)
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

std::optional<DigestKind> digest_of_size(std::size_t size) {
  switch (size) {
    case 16: return DigestKind::Md5;
    case 20: return DigestKind::Sha1;
    case 32: return DigestKind::Sha256;
    case 64: return DigestKind::Sha512;
    default: return std::nullopt;
  }
}

std::string_view digest_name(DigestKind kind) {
  constexpr std::string_view names[] = {"md5", "sha-1", "sha-256", "sha-512"};
  return names[static_cast<std::size_t>(kind)];
}

std::size_t digest_size(DigestKind kind) {
  constexpr std::size_t sizes[] = {16, 20, 32, 64};
  return sizes[static_cast<std::size_t>(kind)];
}

struct SaltedHasher::State {
  Hasher::State begun;
};

SaltedHasher::SaltedHasher(DigestKind kind, View salt) : state_(std::make_unique<State>()) {
  if (state_->begun.context == nullptr ||
      EVP_DigestInit_ex(state_->begun.context, digest_method(kind), nullptr) != 1)
    throw std::bad_alloc();
  EVP_DigestUpdate(state_->begun.context, salt.data(), salt.size());
}
SaltedHasher::~SaltedHasher() = default;

void SaltedHasher::digest(View bytes, MutableView out) const {
  // A context costs more to make than to copy into.
  thread_local const Hasher::State scratch;
  if (scratch.context == nullptr || EVP_MD_CTX_copy_ex(scratch.context, state_->begun.context) != 1)
    throw std::bad_alloc();
  EVP_DigestUpdate(scratch.context, bytes.data(), bytes.size());
  EVP_DigestFinal_ex(scratch.context, reinterpret_cast<unsigned char*>(out.data()), nullptr);
}

Bytes digest(DigestKind kind, View bytes) {
  Hasher hasher(kind);
  hasher.update(bytes);
  return hasher.finish();
}

std::string sha256_hex(View bytes) {
  return hex(digest(DigestKind::Sha256, bytes));
}

std::string short_digest(std::string_view text) {
  constexpr std::size_t kShown = 16;
  return std::string(text.substr(0, kShown)) + "…";
}

}  // namespace wexlo
