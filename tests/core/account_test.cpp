/// The account of a patch: what an edit meant passes, every other changed byte is refused.

#include "recipe/account.hpp"

#include "core/patch_bench.hpp"

using namespace wexlo;
using namespace wexlo::test;

TEST_CASE("account: changes that no edit explains are refused, wherever they are") {
  // Without a footer, whose digest alone would tell each of them.
  const std::string stock = BootBytes{.kernel = noise(5000), .ramdisk = first_ramdisk()}.done() +
                            "left behind" + std::string(9000, '\0');
  const LoadedImage loaded = load(stock);
  const auto judged = [&](const std::string& bytes, const Intent& intent) {
    Patched one{.bytes = blob(bytes)};
    return account(loaded, load(text(one.bytes.view())), one, intent, Context{});
  };
  REQUIRE(judged(stock, {}));
  const std::size_t ramdisk = 4096 + 8192, inside = stock.find("the stock init");
  REQUIRE(inside > ramdisk);
  for (const auto& [place, at] : {std::pair<const char*, std::size_t>{"a field", 16},
                                  {"the header's bytes of no field", 2000},
                                  {"the kernel", 4096 + 77},
                                  {"the kernel's padding", 4096 + 5001},
                                  {"a file of the ramdisk", inside},
                                  {"what stands behind", stock.find("left behind")},
                                  {"the file's padding", stock.size() - 100}}) {
    CAPTURE(place);
    std::string bad = stock;
    bad[at] = static_cast<char>(bad[at] ^ 1);
    const auto refused = judged(bad, {});
    REQUIRE_FALSE(refused);
    CHECK(refused.error().code == ErrorCode::Unexplained);
    // Nor is it explained by an edit of something else.
    Intent other;
    other.fields["cmdline"] = "an edit";
    CHECK_FALSE(judged(bad, other));
  }
  std::string field = stock;
  field[16] = static_cast<char>(field[16] ^ 1);
  Intent meant;
  meant.fields["os_version"] = "an edit";
  Patched one{.bytes = blob(field)};
  CHECK(account(loaded, load(text(one.bytes.view())), one, meant, {}));
  // The same edits, but for places that were not meant.
  const Patched good = patch(stock, recipe(kAddOn));
  const auto refused = judged(text(good.bytes), {});
  REQUIRE_FALSE(refused);
  CHECK(refused.error().code == ErrorCode::Unexplained);
}

TEST_CASE("account: a section that an edit wrote has just the bytes that it meant") {
  VendorBootBytes bytes{.ramdisk = first_ramdisk(), .dtb = noise(400), .bootconfig = "a=b\n"};
  const LoadedImage loaded = load(bytes.done());
  bytes.bootconfig = "a=c\n";
  const std::string now = bytes.done();
  const auto judged = [&](const std::string& meant) {
    Intent intent;
    intent.sections["bootconfig"] = {hex_of(sha256(meant)), "an edit"};
    Patched one{.bytes = blob(now)};
    return account(loaded, load(text(one.bytes.view())), one, intent, Context{}).has_value();
  };
  CHECK(judged("a=c\n"));
  CHECK_FALSE(judged("a=d\n"));
}

TEST_CASE("account: before a kernel only what follows from it may differ") {
  const std::string packed = test::gzip(arm64_kernel("5.10.1"));
  const auto wrapped = [&](std::size_t changed) {
    std::string out = be32(0x27051956) + be32(7) + be32(1) +
                      be32(static_cast<std::uint32_t>(packed.size())) + be32(2) + be32(3) +
                      be32(4) + be32(5) + field("Linux", 32) + packed;
    if (changed != 0) out[changed] = static_cast<char>(out[changed] ^ 1);
    return blob(out);
  };
  const auto judged = [&](std::size_t at) {
    return account_kernel(wrapped(at), wrapped(0), {}, {}).has_value();
  };
  CHECK(judged(0));
  for (const std::size_t at : {5u, 13u, 25u})  // sums and the size
    CHECK(judged(at));
  for (const std::size_t at : {9u, 17u, 21u, 29u, 40u})  // time, addresses, kind, name
    CHECK_FALSE(judged(at));
}

TEST_CASE("account: a footer's fields and every descriptor of its struct are held against stock") {
  const std::string image =
      BootBytes{.kernel = noise(5000), .ramdisk = test::gzip(first_ramdisk())}.done();
  const std::string stock = top_level(
      image, hash_descriptor("dtbo", "the table", "its salt") + hashtree_descriptor("system"),
      1u << 17);
  const LoadedImage loaded = load(stock);
  // The same with another command line, its footer true for it.
  const std::string others =
      hash_descriptor("dtbo", "the table", "its salt") + hashtree_descriptor("system");
  const std::string whole = top_level(
      BootBytes{.kernel = noise(5000), .ramdisk = test::gzip(first_ramdisk()), .cmdline = "quiet"}
          .done(),
      others, 1u << 17);
  Intent intent;
  intent.fields["cmdline"] = "an edit";
  Patched same{.bytes = blob(whole)};
  REQUIRE(account(loaded, load(text(same.bytes.view())), same, intent, Context{}));
  const std::size_t header = whole.rfind("AVB0");
  REQUIRE(header != whole.npos);
  std::vector<std::size_t> places{whole.find("dtbo", header),
                                  whole.find("its salt", header),
                                  whole.find("system", header),
                                  whole.find("a.b", header) + 4,
                                  whole.find("boot", header) + 1,
                                  whole.find("salt", header) + 1,
                                  header + 112 + 7};  // the rollback index
  for (std::size_t i = 0; i < 12; ++i)
    places.push_back(whole.size() - 64 + i);  // magic and version
  for (std::size_t i = 36; i < 64; ++i)
    places.push_back(whole.size() - 64 + i);  // reserved
  for (const std::size_t place : places) {
    CAPTURE(place);
    REQUIRE(place < whole.size());
    Bytes flipped = to_bytes(whole);
    flipped[place] ^= std::byte{1};
    Patched bad{.bytes = Blob(std::move(flipped))};
    CHECK_FALSE(account(loaded, load(text(bad.bytes.view())), bad, intent, Context{}));
  }
}

TEST_CASE("account: a kernel of another size has to be just what was meant") {
  const std::string kernel = padded(arm64_kernel("5.10.1-korvale") + noise(300, 2), 8);
  const auto image = [](const std::string& plain) {
    return BootBytes{.version = 2, .kernel = gzip(plain), .ramdisk = first_ramdisk()}.done();
  };
  const LoadedImage stock = load(image(kernel));
  const auto judged = [&](const std::string& plain, const Intent& intent) {
    Patched one{.bytes = blob(image(plain))};
    return account(stock, load(text(one.bytes.view())), one, intent, Context{});
  };
  const std::string longer = kernel + "tide", shorter = kernel.substr(0, kernel.size() - 8);
  CHECK_FALSE(judged(longer, {}));
  Intent meant;
  meant.kernel_size = longer.size();
  CHECK_FALSE(judged(longer, meant));  // its place is missing
  meant.kernel = {{kernel.size(), 4, "a program"}};
  CHECK(judged(longer, meant));
  CHECK_FALSE(judged(longer + "more", meant));
  CHECK_FALSE(judged("x" + longer.substr(1), meant));
  meant.kernel_size = shorter.size();
  meant.kernel = {{shorter.size(), 8, "a program"}};
  CHECK(judged(shorter, meant));
  meant.kernel = {{shorter.size(), 4, "a program"}};
  CHECK_FALSE(judged(shorter, meant));
}
