#include "archive/zip.hpp"

#include "support/check.hpp"
#include "support/payload.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

/// Counts what is read, and where: to prove that a window copies nothing.
class Watched final : public Source {
 public:
  explicit Watched(std::string bytes) : Source("watched.zip"), bytes_(std::move(bytes)) {}
  std::uint64_t size() const override { return bytes_.size(); }
  Status read_at(std::uint64_t offset, MutableView out) const override {
    read += out.size();
    if (offset + out.size() > bytes_.size()) return fail({.code = ErrorCode::Truncated});
    std::ranges::copy(as_view(bytes_).subspan(offset, out.size()), out.begin());
    return {};
  }
  mutable std::uint64_t read = 0;

 private:
  std::string bytes_;
};

Result<std::shared_ptr<const ZipArchive>> open(const std::string& bytes) {
  return ZipArchive::open(open_memory(blob(bytes), "test.zip"));
}

}  // namespace

TEST_CASE("zip: a stored member is a window into the zip, whatever its local header holds") {
  const std::string data = noise(300000);
  const auto source = std::make_shared<Watched>(
      zip({{"first", "abc"}, {"payload.bin", data, false, false, std::string(37, 'e')}}, "signed"));
  const auto archive = ZipArchive::open(source);
  REQUIRE(archive);
  const auto* member = (*archive)->find("payload.bin");
  REQUIRE(member != nullptr);
  const auto window = (*archive)->window(*member);
  REQUIRE(window);
  CHECK((*window)->size() == data.size());
  CHECK((*window)->name() == "watched.zip!payload.bin");
  CHECK(source->read < 70000);  // the directory, not the member
  check_same(read_all(**window, 1u << 20)->view(), as_view(data));
}

TEST_CASE("zip: deflated members are read whole, up to a limit") {
  const auto archive = open(zip({{"text", std::string(5000, 'x'), true}}));
  REQUIRE(archive);
  const auto* member = (*archive)->find("text");
  CHECK((*archive)->read(*member, 5000)->size() == 5000);
  CHECK((*archive)->read(*member, 4999).error().code == ErrorCode::LimitExceeded);
  CHECK((*archive)->window(*member).error().code == ErrorCode::Unsupported);
}

TEST_CASE("zip: sizes that stand behind the data are found") {
  const auto archive = open(zip({{"a", "content", false, true}, {"b", "more", true, true}}));
  REQUIRE(archive);
  CHECK(text((*archive)->read(*(*archive)->find("a"), 100).value()) == "content");
  CHECK(text(read_all(**(*archive)->window(*(*archive)->find("a")), 100)->view()) == "content");
  CHECK(text((*archive)->read(*(*archive)->find("b"), 100).value()) == "more");
}

TEST_CASE("zip: a wrong CRC, a cut file, no zip at all") {
  std::string bytes = zip({{"a", "content"}});
  bytes[bytes.find("content")] = 'X';
  const auto archive = open(bytes);
  REQUIRE(archive);
  const auto bad = (*archive)->read(*(*archive)->find("a"), 100);
  REQUIRE_FALSE(bad);
  CHECK(bad.error().code == ErrorCode::Corrupt);

  const std::string good = zip({{"a", "content"}, {"b", noise(1000)}});
  for (std::size_t size = 0; size < good.size(); size += 7)
    CHECK_FALSE(open(good.substr(0, size)));
  CHECK(open("hello").error().code == ErrorCode::BadMagic);
  CHECK(open("").error().file == "test.zip");
}

TEST_CASE("zip: a member that claims to lie outside is refused") {
  std::string bytes = zip({{"payload.bin", "content"}});
  const std::size_t entry = bytes.find("PK\x01\x02");
  for (const std::size_t at : {entry + 20, entry + 24})  // both sizes in the directory
    bytes.replace(at, 4, le32(1000000));
  const auto archive = open(bytes);
  if (!archive) return;
  CHECK_FALSE((*archive)->window(*(*archive)->find("payload.bin")));
}

TEST_CASE("zip: an encrypted member is told, and no byte of it given") {
  std::string bytes = zip({{"boot.img", "sealed bytes"}, {"open.txt", "text"}});
  // Bit 0 of the flags, in the local header and in the directory.
  for (const auto& [magic, flags_at] :
       {std::pair<std::string, std::size_t>{"PK\x03\x04", 6}, {"PK\x01\x02", 8}}) {
    const std::size_t at = bytes.find(magic);
    REQUIRE(at != std::string::npos);
    bytes[at + flags_at] = static_cast<char>(bytes[at + flags_at] | 1);
  }
  const auto archive = value_of(open(bytes));
  const ZipMember* sealed = archive->find("boot.img");
  REQUIRE(sealed != nullptr);
  CHECK(archive->open_member(*sealed, {}).error().code == ErrorCode::Unsupported);
  CHECK(archive->window(*sealed).error().code == ErrorCode::Unsupported);
  CHECK(archive->read(*sealed, 100).error().code == ErrorCode::Unsupported);
  CHECK(text(value_of(archive->read(*archive->find("open.txt"), 100))) == "text");
}

TEST_CASE("zip: a stored member is given as it is, and its sum is compared at its end") {
  const std::string data = noise(70000);
  const auto sum_of = [&](const std::string& bytes) {
    const auto archive = value_of(open(bytes));
    const SourcePtr member = value_of(archive->open_member(*archive->find("a"), {}));
    CHECK(member->own_check() == "crc-32");
    const Blob all = value_of(read_all(*member, 1u << 20));
    const auto checker = member->checker();
    checker->data(all.view());
    return checker->finish();
  };
  std::string bytes = zip({{"a", data}});
  CHECK(sum_of(bytes));
  bytes[bytes.find(data) + 5] ^= 1;
  CHECK(sum_of(bytes).error().code == ErrorCode::DigestMismatch);
}

TEST_CASE("zip: a disk that fails while one is opened is told as that, not as a cut zip") {
  class Failing final : public Source {
   public:
    Failing() : Source("package.zip") {}
    [[nodiscard]] std::uint64_t size() const override { return 1u << 20; }
    [[nodiscard]] Status read_at(std::uint64_t, MutableView) const override {
      return fail({.code = ErrorCode::Io, .message = "the disk failed"});
    }
  };
  const auto opened = ZipArchive::open(std::make_shared<Failing>());
  REQUIRE_FALSE(opened);
  CHECK(opened.error().code == ErrorCode::Io);
  CHECK(opened.error().message == "the disk failed");
}
