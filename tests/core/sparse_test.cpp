#include "firmware/sparse.hpp"

#include "support/check.hpp"
#include "support/containers.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

Result<std::string> expand(const std::string& bytes) {
  WEXLO_TRY(const SourcePtr sparse, open_sparse(source_of(bytes), {}));
  const PartitionFacts facts{.name = "x", .size = sparse->size(), .content = content_of(sparse)};
  WEXLO_TRY(const Blob out, read_partition(facts, 1u << 30, {}));
  return text(out.view());
}

ErrorCode code_of(const SparseBytes& bytes) {
  const auto out = expand(bytes.done());
  REQUIRE_FALSE(out);
  CHECK(out.error().file == "x.img");
  return out.error().code;
}

SparseBytes usual() {
  return SparseBytes()
      .raw(noise(8192))
      .fill(2, "abcd")
      .skip(3)
      .fill(1, std::string(4, '\0'))
      .raw(noise(4096, 2));
}

std::string expanded() {
  std::string out = noise(8192);
  for (int i = 0; i < 2048; ++i)
    out += "abcd";
  return out + std::string(4 * 4096, '\0') + noise(4096, 2);
}

}  // namespace

TEST_CASE("sparse: every kind of chunk, headers larger than usual, other block sizes") {
  CHECK(expand(usual().done()).value() == expanded());
  SparseBytes large = usual();
  large.header = 40;
  large.chunk_header = 16;
  CHECK(expand(large.done()).value() == expanded());
  SparseBytes small{.block = 512};
  small.raw(noise(1024)).fill(3, "wxyz");
  CHECK(expand(small.done()).value().substr(1024, 8) == "wxyzwxyz");
  CHECK(expand(SparseBytes().done()).value().empty());
}

TEST_CASE("sparse: any part of it can be read, and holes are told") {
  const auto sparse = open_sparse(source_of(usual().done()), {}).value();
  const std::string whole = expanded();
  for (std::size_t at = 0; at < whole.size(); at += 1777) {
    Bytes out(std::min<std::size_t>(5000, whole.size() - at));
    REQUIRE(sparse->read_at(at, out));
    CHECK(text(out) == whole.substr(at, out.size()));
  }
  CHECK_FALSE(sparse->stretch_at(0)->hole);
  CHECK(sparse->stretch_at(5 * 4096)->hole);
  Bytes beyond(10);
  CHECK(sparse->read_at(whole.size() - 5, beyond).error().code == ErrorCode::Truncated);
}

TEST_CASE("sparse: sums of the image and on the way are held to") {
  SparseBytes good = usual();
  good.checksum = crc32_by_hand(expanded());
  CHECK(expand(good.done()));
  good.checksum ^= 1;
  CHECK(code_of(good) == ErrorCode::DigestMismatch);
  const std::string half = noise(8192);
  for (const bool true_sum : {true, false})
    for (const unsigned header : {12u, 16u}) {
      SparseBytes bytes;
      bytes.chunk_header = header;
      bytes.raw(half).crc(crc32_by_hand(half) + (true_sum ? 0 : 1)).skip(1);
      bytes.crc(crc32_by_hand(half + std::string(4096, '\0')));
      CHECK(expand(bytes.done()).has_value() == true_sum);
    }
  // Some writers do not count the sum itself.
  SparseBytes bare = SparseBytes().raw(half).crc(0, false);
  CHECK(expand(bare.done()).value() == half);
}

TEST_CASE("sparse: sizes that lie are refused, each with its own word") {
  SparseBytes bytes = usual();
  bytes.chunks[0].total_size = 12 + 4096;
  CHECK(code_of(bytes) == ErrorCode::Corrupt);
  bytes = usual();
  bytes.total_blocks = 8;
  CHECK(code_of(bytes) == ErrorCode::Corrupt);
  bytes.total_blocks = 10;
  CHECK(code_of(bytes) == ErrorCode::Corrupt);
  bytes = usual();
  bytes.total_chunks = 4;
  CHECK(code_of(bytes) == ErrorCode::Corrupt);
  bytes = usual();
  bytes.chunks[1].data = "abcdefgh";
  CHECK(code_of(bytes) == ErrorCode::Corrupt);
  bytes = usual();
  bytes.chunks[2].type = 0xCAC5;
  CHECK(code_of(bytes) == ErrorCode::BadValue);
  bytes = usual();
  bytes.chunks[4].blocks = 0xffffffff;
  CHECK(code_of(bytes) == ErrorCode::Corrupt);
  bytes = usual();
  bytes.major = 2;
  CHECK(code_of(bytes) == ErrorCode::Unsupported);
  for (const std::uint32_t block : {0u, 6u, 1u << 30}) {
    bytes = {.block = block};
    CHECK(code_of(bytes) == ErrorCode::BadValue);
  }
}

TEST_CASE("sparse: cut anywhere it is refused, never read past its end") {
  const std::string whole = usual().done();
  for (std::size_t size = 0; size < whole.size(); size += 13) {
    const auto out = expand(whole.substr(0, size));
    CHECK_FALSE(out);
  }
}

TEST_CASE("sparse: a chunk past the file's end is told with its own place") {
  const std::string whole = SparseBytes().raw(noise(4096)).raw(noise(8192, 2)).done();
  REQUIRE(expand(whole));
  const auto cut = expand(whole.substr(0, whole.size() - 1));
  REQUIRE_FALSE(cut);
  CHECK(cut.error().code == ErrorCode::Truncated);
  CHECK(cut.error().offset == 28 + 12 + 4096);  // the second chunk
  CHECK(cut.error().expected == "8192 bytes");
  CHECK(cut.error().found == "8191 bytes");
}

TEST_CASE("sparse: a set gives each part from the piece that has it, in any order") {
  const std::string a = noise(4096, 7), b = noise(4096, 8);
  const SourcePtr first = source_of(SparseBytes().raw(a).skip(3).done());
  const SourcePtr second = source_of(SparseBytes().skip(2).raw(b).skip(1).done());
  const std::string wanted = a + std::string(4096, '\0') + b + std::string(4096, '\0');
  for (const auto& set : {std::vector{first, second}, std::vector{second, first}}) {
    const auto whole = open_sparse_set(set, "x");
    REQUIRE(whole);
    CHECK(text(read_all(**whole, 1u << 20)->view()) == wanted);
    CHECK((*whole)->stretch_at(4096)->hole);
  }
  const auto other = source_of(SparseBytes().raw(a).done());
  CHECK(open_sparse_set({first, other}, "x").error().code == ErrorCode::BadValue);
}
