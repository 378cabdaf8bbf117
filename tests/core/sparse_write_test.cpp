#include "firmware/sparse_write.hpp"

#include <algorithm>
#include <random>

#include "firmware/sparse.hpp"
#include "support/check.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

std::string written(const SparseInput& input, const SparseCut& cut) {
  std::string out;
  const Status done = write_sparse(input, cut, {}, [&](View bytes) -> Status {
    out += as_text(bytes);
    return {};
  });
  REQUIRE(done);
  return out;
}

std::vector<std::string> pieces(const SparseInput& input, std::uint64_t limit) {
  std::vector<std::string> out;
  for (const SparseCut& cut : value_of(cut_sparse(input, limit, {})))
    out.push_back(written(input, cut));
  return out;
}

/// Laid over each other by the reader, which shares no code with the writer.
std::string joined(const std::vector<std::string>& files) {
  std::vector<SourcePtr> sources;
  for (const std::string& file : files)
    sources.push_back(source_of(file));
  const SourcePtr set = value_of(open_sparse_set(sources, "set"));
  return text(value_of(read_all(*set, 1u << 30)).view());
}

std::string blocks(const std::string& pattern) {
  std::string out;
  std::uint32_t seed = 1;
  for (const char c : pattern)
    out += c == '0' ? std::string(kSparseBlock, '\0') : noise(kSparseBlock, seed++);
  return out;
}

std::uint32_t le32_at(const std::string& bytes, std::size_t at) {
  return load<std::uint32_t, std::endian::little>(as_view(bytes).data() + at);
}

}  // namespace

TEST_CASE("sparse writing: one piece, byte by byte") {
  const std::string image = blocks("x00");
  const std::string got = written({*source_of(image)}, {0, 3});
  CHECK(got.substr(0, 28) == le32(0xED26FF3A) + le32(1) + le32(28 | 12 << 16) + le32(4096) +
                                 le32(3) + le32(2) + le32(0));
  CHECK(got.substr(28, 12) == le32(0xCAC1) + le32(1) + le32(12 + 4096));
  CHECK(got.substr(40, 4096) == image.substr(0, 4096));
  CHECK(got.substr(40 + 4096) == le32(0xCAC2) + le32(2) + le32(16) + le32(0));
}

TEST_CASE("sparse writing: a last block that is not whole is filled with zeros") {
  const std::string image = blocks("x") + "tail";
  const auto all = pieces({*source_of(image)}, 0);
  REQUIRE(all.size() == 1);
  std::string wanted = image;
  wanted.resize(2 * kSparseBlock);
  CHECK(joined(all) == wanted);
}

TEST_CASE(
    "sparse writing: each piece keeps to the limit, headers included, and all give the image") {
  Random random(9);
  for (int round = 0; round < 60; ++round) {
    std::string pattern;
    for (unsigned i = 0; i < 1 + random() % 120; ++i)
      pattern += random() % 3 == 0 ? 'x' : (pattern.empty() || random() % 2 ? 'x' : '0');
    const std::string image = blocks(pattern);
    const std::uint64_t limit = (64u << 10) + random() % (200u << 10);
    const auto all = pieces({*source_of(image)}, limit);
    CAPTURE(pattern);
    CAPTURE(limit);
    for (const std::string& piece : all) {
      CHECK(piece.size() <= limit);
      // Each speaks of the whole image.
      CHECK(le32_at(piece, 16) == pattern.size());
      const SourcePtr one = value_of(open_sparse(source_of(piece), {}));
      CHECK(one->size() == image.size());
      REQUIRE(read_all(*one, 1u << 30));
    }
    CHECK(joined(all) == image);
  }
}

TEST_CASE("sparse writing: a limit that nothing fits into is a wrong call") {
  const std::string image = blocks("xx");
  CHECK(cut_sparse({*source_of(image)}, 1000, {}).error().code == ErrorCode::Usage);
}

TEST_CASE(
    "sparse writing: what is not given is left to the phone, zeros that are given are written") {
  const std::string image = blocks("x0x00x");
  const SourcePtr source = source_of(image);
  const SparseInput input{*source, {{0, 2 * kSparseBlock}, {4 * kSparseBlock, 6 * kSparseBlock}}};
  const std::string got = written(input, {0, 6});
  // raw 1, zeros 1, don't care 2, zeros 1, raw 1
  CHECK(le32_at(got, 20) == 5);
  std::vector<std::uint32_t> types;
  for (std::size_t at = 28; at < got.size(); at += le32_at(got, at + 8))
    types.push_back(le32_at(got, at) & 0xffff);
  CHECK(types == std::vector<std::uint32_t>{0xCAC1, 0xCAC2, 0xCAC3, 0xCAC2, 0xCAC1});
  std::string wanted = image;
  std::fill_n(wanted.begin() + 2 * kSparseBlock, 2 * kSparseBlock, '\0');
  CHECK(joined({got}) == wanted);
}

TEST_CASE("sparse writing: given ranges that begin and end inside blocks take those blocks") {
  const std::string image = blocks("xxxx");
  const SourcePtr source = source_of(image);
  const std::string got =
      joined({written({*source, {{kSparseBlock + 5, kSparseBlock + 6}}}, {0, 4})});
  CHECK(got.substr(kSparseBlock, kSparseBlock) == image.substr(kSparseBlock, kSparseBlock));
  CHECK(got.substr(0, kSparseBlock) == std::string(kSparseBlock, '\0'));
  CHECK(got.substr(2 * kSparseBlock) == std::string(2 * kSparseBlock, '\0'));
}

TEST_CASE("sparse writing: holes of a source are never read") {
  const std::string data = blocks("x");
  const SourcePtr holey = value_of(open_joined(
      {{source_of(data), 0, data.size()}, {nullptr, 0, std::uint64_t{1} << 40}}, "large"));
  const auto cuts = value_of(cut_sparse({*holey}, 1u << 20, {}));
  REQUIRE(cuts.size() == 1);
  CHECK(written({*holey}, cuts[0]).size() < 20'000);
}

TEST_CASE("sparse writing: the same in, the same out; as a stream and in a temporary file alike") {
  const std::string image = blocks("x0xx");
  const SourcePtr source = source_of(image);
  const SourcePtr again = value_of(as_sparse({*source}, "b", {}));
  CHECK(written({*source}, {0, 4}) == text(value_of(read_all(*again, 1u << 20)).view()));
}

TEST_CASE("sparse writing: limits around what heads take: none is passed, none has room to spare") {
  std::string pattern;
  for (std::uint32_t i = 0; i < 90; ++i)
    pattern += noise(1, i)[0] % 3 == 0 && i % 2 == 0 ? '0' : 'x';
  const std::string image = blocks(pattern);
  const SourcePtr source = source_of(image);
  std::size_t full = 0, tight = 0;
  for (std::uint64_t whole = 16; whole <= 18; ++whole)
    for (std::uint64_t more = 40; more <= 80; ++more) {
      const std::uint64_t limit = whole * kSparseBlock + more;
      CAPTURE(limit);
      const auto cuts = value_of(cut_sparse({*source}, limit, {}));
      REQUIRE(cuts.size() > 1);
      std::vector<std::string> files;
      for (std::size_t i = 0; i < cuts.size(); ++i) {
        files.push_back(written({*source}, cuts[i]));
        CHECK(files.back().size() <= limit);
        tight += files.back().size() == limit ? 1 : 0;
        if (i + 1 == cuts.size()) continue;
        // One block more would not have gone in, with heads for what is skipped on both sides.
        const std::uint64_t heads = i == 0 ? 12 : 0;
        CHECK(written({*source}, {cuts[i].first, cuts[i].count + 1}).size() + heads > limit);
        ++full;
      }
      CHECK(joined(files) == image);
    }
  CHECK(full > 300);
  CHECK(tight > 0);
}

TEST_CASE("sparse writing: the least limit is taken, one byte less is a wrong call") {
  const std::string image = blocks("xxxxxxxxxxxxxxxxxxxxxxxx");
  const SourcePtr source = source_of(image);
  CHECK(value_of(cut_sparse({*source}, 64u << 10, {})).size() > 1);
  CHECK(cut_sparse({*source}, (64u << 10) - 1, {}).error().code == ErrorCode::Usage);
}
