/// tar at its edges: what a header is, the largest sizes, the number of members.

#include "archive/tar.hpp"

#include "archive/tar_write.hpp"
#include "base/source_read.hpp"
#include "support/check.hpp"
#include "support/containers.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

/// So many zeros that nobody holds.
SourcePtr zeros(std::uint64_t size) {
  return value_of(open_joined({{nullptr, 0, size}}, "zeros"));
}

}  // namespace

TEST_CASE("tar: a header is one whose sum is right") {
  const std::string header = tar_member("boot.img", "x").substr(0, 512);
  CHECK(looks_like_tar(as_view(header)));
  CHECK_FALSE(looks_like_tar(as_view(header).first(511)));
  for (const std::size_t at : {0u, 100u, 147u, 156u, 300u, 511u}) {
    CAPTURE(at);
    std::string other = header;
    other[at] = static_cast<char>(other[at] + 1);
    CHECK_FALSE(looks_like_tar(as_view(other)));
  }
}

TEST_CASE("tar: a member of the largest size that octal digits hold, and of one byte more") {
  constexpr std::uint64_t kMostOctal = 8589934591;  // eleven digits: 77777777777
  for (const std::uint64_t size : {kMostOctal, kMostOctal + 1}) {
    CAPTURE(size);
    const SourcePtr made = value_of(
        rewrite_tar(source_of(tar({{"a", "x"}, {"b", "y"}})), {{"a", zeros(size)}}, "", {}));
    const std::string field = text(value_of(read_some(*made, 124, 12)));
    CHECK(field == (size == kMostOctal ? std::string("77777777777\0", 12)
                                       : std::string("\x80\0\0\0\0\0\0\x02\0\0\0\0", 12)));
    const auto places = value_of(tar_places(made, {}));
    REQUIRE(places.size() == 2);
    CHECK(places[0].size == size);
    CHECK(places[1].path == "b");
    CHECK(text(value_of(read_some(*made, places[1].data_at, 1))) == "y");
  }
}

TEST_CASE("tar: as many members as are taken, and one more") {
  const std::string folder = tar_member("d", "", '5');
  std::string bytes;
  for (int i = 0; i < 100'000; ++i)
    bytes += folder;
  const std::string end(1024, '\0');
  CHECK(value_of(open_tar(source_of(bytes + end), {})).members == 100'000);
  CHECK(open_tar(source_of(bytes + folder + end), {}).error().code == ErrorCode::LimitExceeded);
}
