#include "support/signed_set.hpp"

#include <algorithm>

#include "seal/seal_image.hpp"
#include "support/check.hpp"

namespace wexlo::test {
namespace {

struct KeyPair {
  std::string pem;
  verified::SignerPtr signer;
};
KeyPair make_pair_of() {
  KeyPair out{value_of(verified::new_private_key(2048)), nullptr};
  out.signer = value_of(verified::signer_of(out.pem));
  return out;
}
const KeyPair& pair_of(KeyOf whose) {
  static const KeyPair keys[] = {make_pair_of(), make_pair_of(), make_pair_of()};
  return keys[static_cast<std::size_t>(whose)];
}

Bytes footed(const Bytes& content, FooterWish wish, Footed& out) {
  const auto source = open_memory(Blob(content), wish.partition);
  MemorySink sink;
  out = value_of(write_footed(*source, content.size(), content.size(), wish, sink, {}));
  return to_bytes(sink.take().view());
}

}  // namespace

const verified::Signer& signer(KeyOf whose) {
  return *pair_of(whose).signer;
}
const std::string& private_pem(KeyOf whose) {
  return pair_of(whose).pem;
}

void SignedSet::write_top(const verified::Signer* by) {
  Bytes bytes = value_of(verified::write_struct(top, by, DigestKind::Sha256));
  bytes.resize(align_up(bytes.size(), 4096));
  images["vbmeta"] = std::move(bytes);
}

void SignedSet::write_boot(const verified::Signer* by) {
  Bytes& image = images.at("boot");
  const auto footer = *value_of(verified::find_footer(image));
  const Bytes bytes = value_of(verified::write_struct(boot, by, DigestKind::Sha256));
  const auto at = image.begin() + static_cast<std::ptrdiff_t>(footer.vbmeta_offset);
  std::fill(at, image.end() - 64, std::byte{0});
  std::ranges::copy(bytes, at);
  const Bytes fresh =
      verified::write_footer({footer.original_image_size, footer.vbmeta_offset, bytes.size()});
  std::ranges::copy(fresh, image.end() - 64);
}

verified::Walk SignedSet::walk(verified::Look look,
                               std::map<std::uint32_t, std::uint64_t> rollback) const {
  verified::WalkOptions options{.find = {},
                                .suffix = {},
                                .root_key = signer(KeyOf::Root).public_key(),
                                .rollback = std::move(rollback),
                                .look = look};
  options.find = [this](const std::string& name) -> Result<SourcePtr> {
    const auto at = images.find(name);
    return at == images.end() ? nullptr : open_memory(Blob(at->second), name);
  };
  return value_of(verified::walk_chain(options, {}));
}

SignedSet signed_set() {
  SignedSet out;
  Footed made;
  const Bytes boot = to_bytes(noise(20000, 1));
  out.boot_content = boot.size();
  FooterWish wish{.partition = "boot",
                  .partition_size = 64 << 10,
                  .salt = to_bytes(noise(32, 2)),
                  .draft = verified::new_draft(),
                  .signer = &signer(KeyOf::Boot)};
  wish.draft.set_rollback_index(kRollback);
  out.images["boot"] = footed(boot, wish, made);
  out.boot = wish.draft;
  out.boot.set_claim(made.claim);

  out.top = verified::new_draft();
  out.top.set_rollback_index(kRollback);
  out.top.set_property("com.android.build.boot.os_version", "16");
  out.top.set_claim(verified::ChainDescriptor{"boot", 1, signer(KeyOf::Boot).public_key()});
  wish = {.partition = "init_boot",
          .partition_size = 48 << 10,
          .salt = to_bytes(noise(32, 3)),
          .draft = verified::new_draft()};
  out.images["init_boot"] = footed(to_bytes(noise(9000, 4)), wish, made);
  out.top.set_claim(made.claim);
  wish = {.partition = "system",
          .partition_size = 1 << 20,
          .kind = FooterKind::Tree,
          .salt = to_bytes(noise(32, 5)),
          .fec_roots = 2,
          .draft = verified::new_draft()};
  out.images["system"] = footed(to_bytes(noise(150 * 4096, 6)), wish, made);
  out.top.set_claim(made.claim);
  out.write_top();
  return out;
}

}  // namespace wexlo::test
