/// The older boot signature of an image that is patched: made again where it was valid.

#include "core/edits_bench.hpp"
#include "core/parts_bench.hpp"
#include "verified/key.hpp"
#include "verified/older_signature.hpp"

namespace wexlo::test {

namespace {

std::string bare_image() {
  return BootBytes{.version = 1, .ramdisk = gzip(CpioBytes{}.file("init", "stock").done())}.done();
}

/// With a signature by a key of somebody else's, and padding.
std::string signed_image(std::size_t padding, bool spoilt = false) {
  const std::string image = bare_image();
  const std::string key =
      read(std::filesystem::path(source_folder()) / "demo/keys/korvale-demo.pem");
  std::string signature =
      text(View(value_of(verified::make_older_signature(as_view(image), "/boot", key, {}))));
  if (spoilt)
    signature[signature.size() - 3] = static_cast<char>(signature[signature.size() - 3] ^ 1);
  return image + signature + std::string(padding, '\0');
}

std::optional<verified::OlderSignatureInfo> signature_of(const std::string& image) {
  const auto loaded = load(image);
  const std::uint64_t end = loaded.image->sections_end();
  return verified::older_signature(as_view(image).subspan(end), as_view(image).first(end));
}

Patched renewed_patch(const std::string& image) {
  const TempDir dir;
  write(dir / "r.toml",
        "format = 1\nname = \"tide\"\n[[edit]]\nkind = \"put\"\npath = \"conf\"\ntext = \"x\"\n");
  const auto recipes = value_of(load_recipes({(dir / "r.toml").string()}, {}));
  auto done = patch_image(load(image), {"boot", true}, recipes);
  REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
  return std::move(*done);
}

}  // namespace

TEST_CASE(
    "patch: an older signature that was valid is made again, and the way back has the stock one") {
  for (const std::size_t padding : {0u, 8192u}) {
    CAPTURE(padding);
    const std::string image = signed_image(padding);
    REQUIRE(signature_of(image)->holds);
    const Patched done = renewed_patch(image);
    const std::string bytes = text(done.bytes.view());
    const auto now = signature_of(bytes);
    REQUIRE(now);
    CHECK(now->holds);
    CHECK(now->target == "/boot");
    if (padding != 0) CHECK(bytes.size() == image.size());
    CHECK(std::ranges::any_of(done.notes, [](const Remark& note) {
      return note.text.find("made again") != std::string::npos;
    }));
    CHECK(std::ranges::any_of(done.ranges, [](const ChangedRange& range) {
      return range.cause.find("older boot signature") != std::string::npos;
    }));
    check_undone(done, image);
    // The same bytes each time, and nothing to do in an image that has it.
    CHECK(text(renewed_patch(image).bytes.view()) == bytes);
    CHECK_FALSE(renewed_patch(bytes).changed);
  }
}

TEST_CASE("patch: the way back holds when somebody renews the older signature with another key") {
  for (const std::size_t padding : {0u, 8192u}) {
    CAPTURE(padding);
    const std::string image = signed_image(padding);
    std::string bytes = text(renewed_patch(image).bytes.view());
    const auto end = static_cast<std::size_t>(load(bytes).image->sections_end());
    const std::size_t size = signature_of(bytes)->size;
    const std::string key = value_of(verified::new_private_key(2048));
    const std::string fresh = text(View(
        value_of(verified::make_older_signature(as_view(bytes).first(end), "/boot", key, {}))));
    bytes.replace(end, size, fresh);
    REQUIRE(signature_of(bytes)->holds);
    const auto back = restore_image(load(bytes), {}, {});
    REQUIRE_MESSAGE(back, (back ? "" : describe(back.error())));
    check_same(back->bytes, as_view(image));
    // A change of anything else is still found.
    const std::uint64_t kernel = load(bytes).image->section("kernel")->offset;
    bytes[kernel] = static_cast<char>(bytes[kernel] ^ 1);
    CHECK_FALSE(restore_image(load(bytes), {}, {}));
  }
}

TEST_CASE("patch: an older signature that was not valid is left as it is, and said so") {
  const std::string image = signed_image(4096, true);
  const Patched done = renewed_patch(image);
  CHECK_FALSE(signature_of(text(done.bytes.view()))->holds);
  CHECK(std::ranges::any_of(done.notes, [](const Remark& note) {
    return note.text.find("stale now") != std::string::npos;
  }));
  check_undone(done, image);
}

TEST_CASE("repack: an older signature that was valid is made again") {
  const PartsBench bench(signed_image(4096));
  write(bench / "tree/init", "another");
  const std::string bytes = text(bench.repack().bytes.view());
  CHECK(signature_of(bytes)->holds);
}

}  // namespace wexlo::test
