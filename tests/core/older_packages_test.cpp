/// Older incremental packages: lists of blocks that start from an older build, images that a script
/// patches, patches of compressed streams.

#include "core/package_bench.hpp"
#include "firmware/imgdiff.hpp"
#include "firmware/script_patches.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

constexpr std::size_t kOneBlock = 4096;

std::string block_of(std::uint32_t seed) {
  return noise(kOneBlock, seed);
}

/// The package opened with a base that holds one image.
Result<std::string> with_base(const std::vector<Member>& package, const std::string& name,
                              const std::string& old) {
  Opening opening;
  if (!old.empty())
    opening.base =
        std::make_shared<const BaseImages>(value_of(open_set({{name + ".img", old}})), "older");
  WEXLO_TRY(const FirmwarePtr firmware,
            open_source(open_memory(blob(zip(package)), "x.zip"), opening));
  return content(*firmware, name);
}

std::string patched(const std::string& patch, const std::string& old, std::uint64_t most,
                    ErrorCode* code = nullptr) {
  std::string out;
  const auto applied =
      apply_image_patch(as_view(patch), old_bytes(as_view(old)), most, [&](View piece) -> Status {
        out += text(piece);
        return {};
      });
  if (code != nullptr) *code = applied ? ErrorCode::Internal : applied.error().code;
  return applied ? out : "";
}

std::string raw_deflate(const std::string& data) {
  const std::string wrapped = test::gzip(data, 6);
  return wrapped.substr(10, wrapped.size() - 18);
}

/// Normal bytes, a deflate stream, raw bytes.
std::string imgdiff_of(const std::string& lead, const std::string& lead_new,
                       const std::string& plain, const std::string& plain_new,
                       const std::string& packed, int memory = 8) {
  const std::string one = bsdiff(lead, lead_new), two = bsdiff(plain, plain_new);
  const std::size_t head = 12 + (4 + 24) + (4 + 60) + (4 + 4 + 3);
  return "IMGDIFF2" + le32(3) + le32(0) + le64(0) + le64(lead.size()) + le64(head) + le32(2) +
         le64(lead.size()) + le64(packed.size()) + le64(head + one.size()) + le64(plain.size()) +
         le64(plain_new.size()) + le32(6) + le32(8) + le32(static_cast<std::uint32_t>(-15)) +
         le32(static_cast<std::uint32_t>(memory)) + le32(0) + le32(3) + le32(3) + "end" + one + two;
}

}  // namespace

TEST_CASE("imgdiff: bytes, a stream that is deflated anew, and raw bytes") {
  const std::string lead = noise(500, 1), lead_new = noise(480, 2);
  std::string plain, plain_new;
  for (int i = 0; i < 400; ++i)
    plain += "line " + std::to_string(i * 7) + "\n";
  plain_new = plain + "and more\n";
  const std::string packed = raw_deflate(plain), old = lead + packed;
  const std::string patch = imgdiff_of(lead, lead_new, plain, plain_new, packed);
  REQUIRE(looks_like_imgdiff(as_view(patch)));
  CHECK(patched(patch, old, 1u << 20) == lead_new + raw_deflate(plain_new) + "end");
  ErrorCode code{};
  for (std::size_t cut = 9; cut < 110; cut += 7) {
    patched(patch.substr(0, cut), old, 1u << 20, &code);
    CHECK((code == ErrorCode::Truncated || code == ErrorCode::Corrupt));
  }
  patched(patch, old, 600, &code);
  CHECK(code == ErrorCode::LimitExceeded);
  patched(patch, old.substr(0, old.size() - 1), 1u << 20, &code);
  CHECK(code == ErrorCode::Corrupt);
  patched(imgdiff_of(lead, lead_new, plain, plain_new, packed, 77), old, 1u << 20, &code);
  CHECK(code == ErrorCode::Corrupt);
  std::string odd = patch;
  odd[12] = 1;
  patched(odd, old, 1u << 20, &code);
  CHECK(code == ErrorCode::Unsupported);
}

TEST_CASE("transfer lists: move, stash, patch, new and zero on top of the older build") {
  const std::string a = block_of(1), b = block_of(2), c = block_of(3), d = block_of(4),
                    fresh = block_of(5), better = block_of(6);
  const std::string old = a + b + c + d + a;
  const auto sum = [](const std::string& bytes) { return hex_of(sha1(bytes)); };
  const std::string patch = bsdiff(c + a, better + b), size = std::to_string(patch.size());
  // Block 0 is kept aside, takes b; 2 and the stash become two new ones; 4 is not touched.
  const std::string list = "4\n3\n1\n1\nstash " + sum(a) + " 2,0,1\nmove " + sum(b) +
                           " 2,0,1 1 2,1,2\nbsdiff 0 " + size + " " + sum(c + a) + " " +
                           sum(better + b) + " 2,1,3 2 2,2,3 2,0,1 " + sum(a) + ":2,1,2\nfree " +
                           sum(a) + "\nnew 2,3,4\n";
  const std::vector<Member> package{{"system.transfer.list", list},
                                    {"system.new.dat", fresh},
                                    {"system.patch.dat", patch},
                                    {"boot.img", boot_image()}};
  const auto made = with_base(package, "system", old);
  REQUIRE_MESSAGE(made, (made ? "" : describe(made.error())));
  CHECK(*made == b + better + b + fresh + a);
  CHECK(with_base(package, "system", "").error().code == ErrorCode::Unsupported);
  CHECK(with_base(package, "system", block_of(9) + old.substr(kOneBlock)).error().code ==
        ErrorCode::DigestMismatch);
  CHECK(with_base(package, "system", old.substr(0, kOneBlock)).error().code ==
        ErrorCode::DigestMismatch);
  // The other partition does not care.
  Opening none;
  CHECK(content(*value_of(open_source(open_memory(blob(zip(package)), "x.zip"), none)), "boot"));
}

TEST_CASE("transfer lists: a hash tree over what was written, with an older build and without") {
  const std::string a = block_of(1), b = block_of(2), salt = "\xaa\xbb";
  // By hand: a block of the two blocks' digests, and its own digest.
  std::string tree = sha256(salt + a) + sha256(salt + b);
  tree.resize(kOneBlock);
  const std::string root = hex_of(sha256(salt + tree));
  const auto computed = [&](const std::string& words) {
    return "compute_hash_tree " + words + "\n";
  };
  const auto full = [&](const std::string& command, const std::string& data) {
    return with_base({{"s.transfer.list", "4\n2\n0\n0\nnew 4,0,1,3,4\n" + command},
                      {"s.new.dat", data},
                      {"boot.img", boot_image()}},
                     "s", "");
  };
  const std::string right = computed("2,1,2 4,0,1,3,4 sha256 aabb " + root);
  CHECK(full(right, a + b).value() == a + tree + std::string(kOneBlock, '\0') + b);
  const std::pair<std::string, ErrorCode> wrong[] = {
      {computed("2,1,2 4,0,1,3,4 sha256 aabc " + root), ErrorCode::DigestMismatch},
      {computed("2,1,3 4,0,1,3,4 sha256 aabb " + root), ErrorCode::Corrupt},
      {computed("2,1,2 4,0,1,3,4 md5 aabb " + root), ErrorCode::Unsupported},
      {computed("2,1,2 4,0,1,3,4 sha256 xx " + root), ErrorCode::BadValue},
      {computed("2,1,2 4,0,1,3,4 sha256 aabb"), ErrorCode::BadValue}};
  for (const auto& [command, code] : wrong) {
    CAPTURE(command);
    CHECK(full(command, a + b).error().code == code);
  }
  CHECK_FALSE(full(right, a));
  const auto longer = full(right, a + b + a);
  REQUIRE_FALSE(longer);
  CHECK(longer.error().code == ErrorCode::Corrupt);
  CHECK(longer.error().hint.contains("damaged"));  // there is no base to doubt
  // Of many blocks, in ranges with a hole between them: two levels, the upper one first.
  std::string many, digests;
  for (unsigned i = 0; i < 600; ++i) {
    many += block_of(i);
    digests += sha256(salt + block_of(i));
  }
  digests.resize(5 * kOneBlock);
  std::string upper;
  for (std::size_t at = 0; at < digests.size(); at += kOneBlock)
    upper += sha256(salt + digests.substr(at, kOneBlock));
  upper.resize(kOneBlock);
  const auto large = with_base(
      {{"s.transfer.list",
        "4\n2\n0\n0\nnew 4,0,299,305,606\n" +
            computed("2,299,305 4,0,299,305,606 sha256 aabb " + hex_of(sha256(salt + upper)))},
       {"s.new.dat", many},
       {"boot.img", boot_image()}},
      "s", "");
  REQUIRE_MESSAGE(large, (large ? "" : describe(large.error())));
  CHECK(*large == many.substr(0, 299 * kOneBlock) + upper + digests + many.substr(299 * kOneBlock));
  // On top of an older build.
  const auto patched = with_base({{"s.transfer.list", "4\n2\n0\n0\nmove " + hex_of(sha1(b)) +
                                                          " 2,3,4 1 2,0,1\nnew 2,0,1\n" + right},
                                  {"s.new.dat", a},
                                  {"boot.img", boot_image()}},
                                 "s", b + std::string(3 * kOneBlock, '\0'));
  REQUIRE_MESSAGE(patched, (patched ? "" : describe(patched.error())));
  CHECK(*patched == a + tree + std::string(kOneBlock, '\0') + b);
}

TEST_CASE("transfer lists: the oldest form, and what is wrong in a newer one") {
  const std::string a = block_of(1), b = block_of(2);
  const auto made = [&](const std::string& list) {
    return with_base({{"s.transfer.list", list}, {"s.new.dat", ""}, {"s.patch.dat", "x"}}, "s",
                     a + b);
  };
  CHECK(made("1\n2\nmove 2,0,1 2,1,2\n").value() == a + a);
  CHECK(made("2\n2\n0\n0\nstash 7 2,0,1\nmove 2,1,2 1 - 7:2,0,1\nzero 2,0,1\n").value() ==
        std::string(kOneBlock, '\0') + a);
  CHECK(made("2\n1\n0\n0\nmove 2,1,2 1 - 7:2,0,1\n").error().code == ErrorCode::Corrupt);
  CHECK(made("2\n1\n0\n0\nmove 2,0,2 1 2,0,1\n").error().code == ErrorCode::Corrupt);
  CHECK(made("2\n1\n0\n0\nmove 2,0,1 1 2,0,1 2,5,6\n").error().code == ErrorCode::OutOfRange);
  CHECK(made("2\n1\n0\n0\nmove 2,0,1 99999999 2,0,1\n").error().code == ErrorCode::LimitExceeded);
  for (const char* bad : {"move", "move 2,0,1", "move 2,0,1 x 2,0,1", "move 2,0,1 1 - 7", "stash 7",
                          "bsdiff 0", "bsdiff x 5 2,0,1 1 2,0,1"})
    CHECK(made(std::string("2\n1\n0\n0\n") + bad + "\n").error().code == ErrorCode::BadValue);
}

TEST_CASE("scripts: an image that is patched as a whole, in both forms of the call") {
  const std::string old = boot_image(1), now = boot_image(2);
  const auto place = [](const std::string& of) {
    return std::to_string(of.size()) + ":" + hex_of(sha1(of));
  };
  const std::string path = "EMMC:/dev/block/by-name/boot:";
  const std::string scripts[] = {
      "assert(apply_patch_check(\"" + path + place(old) + ":" + place(now) +
          "\"));\napply_patch(\"" + path + place(old) + ":" + place(now) + "\", \"-\", " +
          hex_of(sha1(now)) + ", " + std::to_string(now.size()) + ", " + hex_of(sha1(old)) +
          ", package_extract_file(\"patch/boot.img.p\"));\n",
      "patch_partition(\"" + path + place(now) + "\", \"" + path + place(old) +
          "\", package_extract_file(\"patch/boot.img.p\")) || abort(\"E\");\n"};
  for (const std::string& script : scripts) {
    CHECK(read_script_patches(script).size() == 1);
    const std::vector<Member> package{{"META-INF/com/google/android/updater-script", script},
                                      {"patch/boot.img.p", bsdiff(old, now)},
                                      {"radio.img", noise(900)}};
    CHECK(with_base(package, "boot", old + std::string(4096, '\0')).value() == now);
    CHECK(with_base(package, "boot", "").error().code == ErrorCode::Unsupported);
    CHECK(with_base(package, "boot", now).error().code == ErrorCode::DigestMismatch);
  }
  for (const char* bad :
       {"apply_patch(", "apply_patch(\"EMMC:/x:1:2\")", "patch_partition(\"a\",\"b\")",
        "apply_patch(\"EMMC:/dev/../..:1:aa:2:bb\", \"-\", package_extract_file(\"x\"))"})
    CHECK(read_script_patches(bad).empty());
}
