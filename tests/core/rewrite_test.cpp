/// Putting other files into tars, zips and packed streams: everything else stays.

#include <random>

#include "archive/tar.hpp"
#include "archive/tar_write.hpp"
#include "archive/zip_write.hpp"
#include "base/digest.hpp"
#include "codec/packing.hpp"
#include "codec/unpacked.hpp"
#include "support/check.hpp"
#include "support/containers.hpp"
#include "support/run.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

std::string all_of(const SourcePtr& source) {
  return text(value_of(read_all(*source, 1u << 30)).view());
}
std::string md5_of(const std::string& bytes) {
  return hex(digest(DigestKind::Md5, as_view(bytes)));
}

const std::vector<Member> kMembers{{"boot.img", noise(1500)}, {"sub/a.txt", "text"}, {"z", ""}};

}  // namespace

TEST_CASE("tar: a replaced member has its new size, every other byte stays") {
  const std::string before = tar(kMembers);
  for (const std::size_t size : {0u, 1u, 511u, 512u, 1500u, 4000u}) {
    const std::string content = noise(size, 5);
    const std::string after = all_of(
        value_of(rewrite_tar(source_of(before), {{"boot.img", source_of(content)}}, "", {})));
    CAPTURE(size);
    // The other headers and members, byte by byte.
    const std::string rest = before.substr(512 + 1536);
    CHECK(after.find(rest.substr(0, 1024)) != std::string::npos);
    const TempDir dir;
    write(dir / "a.tar", after);
    const Ran listed = run({"tar", "xf", "a.tar"}, dir.path().string());
    CHECK(listed.exit_code == 0);
    CHECK(listed.err.empty());
    CHECK(read(dir / "boot.img") == content);
    CHECK(read(dir / "sub/a.txt") == "text");
  }
}

TEST_CASE("tar: the same content gives the same bytes, and the sum line is made anew") {
  std::string before = tar(kMembers);
  CHECK(all_of(value_of(rewrite_tar(source_of(before), {{"boot.img", source_of(noise(1500))}}, "",
                                    {}))) == before);
  const std::string summed = before + md5_of(before) + "  home.tar\n";
  const std::string after =
      all_of(value_of(rewrite_tar(source_of(summed), {{"z", source_of("now there")}}, "", {})));
  const std::string body = after.substr(0, after.size() - 32 - 2 - 9);
  CHECK(after.substr(body.size()) == md5_of(body) + "  home.tar\n");
  const SourcePtr checked = source_of(after);
  const auto line = value_of(find_sum_line(*checked));
  REQUIRE(line);
  CHECK(check_sum_line(*checked, *line, {}));
  const std::string named = all_of(
      value_of(rewrite_tar(source_of(summed), {{"z", source_of("now there")}}, "other.tar", {})));
  CHECK(named.ends_with("  other.tar\n"));
}

TEST_CASE("tar: GNU tar's own archives, with long names and links beside") {
  const TempDir dir;
  const std::string longest(150, 'n');
  write(dir / longest, "long");
  write(dir / "boot.img", noise(5000));
  for (const char* format : {"gnu", "ustar", "pax"}) {
    if (std::string(format) == "ustar") std::filesystem::remove(dir / longest);
    REQUIRE(shell("ln -sf boot.img link; tar --format=" + std::string(format) +
                      " -cf a.tar boot.img link $(ls | grep nnn)",
                  dir.path().string())
                .exit_code == 0);
    const std::string content = noise(9000, 3);
    const SourcePtr after = value_of(
        rewrite_tar(source_of(read(dir / "a.tar")), {{"boot.img", source_of(content)}}, "", {}));
    write(dir / "b.tar", all_of(after));
    CAPTURE(format);
    const Ran judged = shell("rm -rf out; mkdir out; tar -xf b.tar -C out && readlink out/link",
                             dir.path().string());
    CHECK(judged.exit_code == 0);
    CHECK(judged.out == "boot.img\n");
    CHECK(read(dir / "out/boot.img") == content);
    // Whole records, as the program writes them.
    CHECK(std::filesystem::file_size(dir / "b.tar") % 10240 == 0);
  }
}

TEST_CASE("tar: a member that is not there, and a size that stands in an extended header") {
  CHECK(rewrite_tar(source_of(tar(kMembers)), {{"no.img", source_of("x")}}, "", {}).error().code ==
        ErrorCode::NotFound);
  const std::string record = "13 size=1500\n";
  std::string before = tar_member("pax", record, 'x') + tar(kMembers);
  const auto refused = rewrite_tar(source_of(before), {{"boot.img", source_of("x")}}, "", {});
  REQUIRE_FALSE(refused);
  CHECK(refused.error().code == ErrorCode::Unsupported);
}

TEST_CASE("tar: members written for a phone, whole records, no times, a sum line at the end") {
  const TempDir dir;
  const std::vector<TarMember> members{{"boot.img.lz4", source_of(noise(3000))},
                                       {"vbmeta.img", source_of("v")}};
  const auto made = [&] {
    std::string out;
    REQUIRE(write_summed_tar(members, "a.tar", {}, [&](View piece) -> Status {
      out += text(piece);
      return {};
    }));
    return out;
  };
  const std::string bytes = made();
  CHECK(bytes == made());
  test::write(dir / "a.tar.md5", bytes);
  const std::string line = bytes.substr(bytes.size() - 32 - 2 - 6);
  const std::string body = bytes.substr(0, bytes.size() - line.size());
  CHECK(line == md5_of(body) + "  a.tar\n");
  CHECK(body.size() % 10240 == 0);
  const Ran listed = shell("tar tf a.tar.md5 && tar xOf a.tar.md5 vbmeta.img", dir.path().string());
  CHECK(listed.out == "boot.img.lz4\nvbmeta.img\nv");
}

TEST_CASE(
    "zip: a replaced member is packed as the one before was; others keep their packed bytes") {
  const TempDir dir;
  write(dir / "boot.img", noise(3000));
  write(dir / "a.txt", std::string(9000, 'a'));
  REQUIRE(
      shell("zip -q -X x.zip a.txt && zip -q -X -0 x.zip boot.img && mkdir s && cp a.txt s/b.txt "
            "&& zip -q -X x.zip s/b.txt",
            dir.path().string())
          .exit_code == 0);
  const std::string before = read(dir / "x.zip"), content = noise(5000, 4);
  const RewrittenZip out = value_of(rewrite_zip(
      source_of(before, "x.zip"),
      {{"boot.img", source_of(content)}, {"s/b.txt", source_of(std::string(70000, 'b'))}}, {}));
  CHECK_FALSE(out.signature_gone);
  write(dir / "y.zip", all_of(out.source));
  CHECK(run({"unzip", "-tq", "y.zip"}, dir.path().string()).exit_code == 0);
  const auto columns = "unzip -v y.zip | awk '{print substr($2, 1, 4), $8}' | sed -n '4,6p'";
  CHECK(shell(columns, dir.path().string()).out == "Defl a.txt\nStor boot.img\nDefl s/b.txt\n");
  REQUIRE(shell("mkdir out && cd out && unzip -q ../y.zip", dir.path().string()).exit_code == 0);
  CHECK(read(dir / "out/boot.img") == content);
  CHECK(read(dir / "out/a.txt") == std::string(9000, 'a'));
  CHECK(read(dir / "out/s/b.txt") == std::string(70000, 'b'));
  // The times of all, also of the replaced ones, are those of before.
  CHECK(shell("zipinfo -T x.zip | grep img", dir.path().string()).out.substr(40, 15) ==
        shell("zipinfo -T y.zip | grep img", dir.path().string()).out.substr(40, 15));
  CHECK(all_of(value_of(rewrite_zip(source_of(before, "x.zip"),
                                    {{"boot.img", source_of(content)},
                                     {"s/b.txt", source_of(std::string(70000, 'b'))}},
                                    {}))
                   .source) == read(dir / "y.zip"));
}

TEST_CASE("zip: a signature over the whole file is left out, lists that sign members are told") {
  const std::string signed_by = "signed by x" + std::string("\x20\x00\xff\xff\x11\x00", 6);
  const RewrittenZip whole = value_of(rewrite_zip(source_of(zip({{"boot.img", "old"}}, signed_by)),
                                                  {{"boot.img", source_of("new")}}, {}));
  CHECK(whole.signature_gone);
  CHECK(all_of(whole.source).find("signed by x") == std::string::npos);
  const RewrittenZip listed = value_of(
      rewrite_zip(source_of(zip({{"META-INF/CERT.SF", "x"}, {"boot.img", "old"}}, "words")),
                  {{"boot.img", source_of("new")}}, {}));
  CHECK(listed.signature_stale);
  CHECK_FALSE(listed.signature_gone);
  CHECK(all_of(listed.source).find("words") != std::string::npos);
}

TEST_CASE("zip: what is no zip, and members that are not there") {
  CHECK_FALSE(rewrite_zip(source_of("no zip at all"), {{"a", source_of("x")}}, {}));
  CHECK(rewrite_zip(source_of(zip({{"a", "b"}})), {{"c", source_of("x")}}, {}).error().code ==
        ErrorCode::NotFound);
}

TEST_CASE("packing: a source of any size as one stream, read again by the usual programs") {
  const TempDir dir;
  const std::string bytes = noise(1'300'000) + std::string(3'000'000, 'z');
  const struct {
    Compression kind;
    const char* program;
  } all[] = {{Compression::Gzip, "gzip -dc"},     {Compression::Lz4Frame, "lz4 -dc"},
             {Compression::Lz4Legacy, "lz4 -dc"}, {Compression::Xz, "xz -dc"},
             {Compression::Zstd, "zstd -dc"},     {Compression::Bzip2, "bzip2 -dc"}};
  for (const auto& one : all) {
    for (const std::size_t size : {std::size_t{0}, std::size_t{1}, bytes.size()}) {
      CAPTURE(one.program);
      CAPTURE(size);
      const Framing framing{.level = 1};
      const SourcePtr packed =
          value_of(pack_source(*source_of(bytes.substr(0, size)), one.kind, framing, "packed", {}));
      write(dir / "packed", all_of(packed));
      const Ran ran = shell(std::string(one.program) + " < packed > plain", dir.path().string());
      if (size > 0) CHECK(ran.exit_code == 0);
      if (size > 0) CHECK(read(dir / "plain") == bytes.substr(0, size));
      const SourcePtr again =
          value_of(pack_source(*source_of(bytes.substr(0, size)), one.kind, framing, "packed", {}));
      CHECK(all_of(again) == read(dir / "packed"));
    }
  }
}

TEST_CASE("packing: frames for download mode say how much is in them") {
  const SourcePtr packed = value_of(pack_source(*source_of(noise(9000)), Compression::Lz4Frame,
                                                download_mode_framing(), "x", {}));
  const std::string bytes = all_of(packed);
  CHECK(bytes.substr(0, 4) == std::string("\x04\x22\x4d\x18"));
  CHECK((bytes[4] & 0x08) != 0);  // content size
  CHECK((bytes[4] & 0x04) != 0);  // content checksum
  CHECK(bytes.substr(6, 8) == le64(9000));
}
