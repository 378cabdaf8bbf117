/// Where two pieces of bytes differ: by a loop that looks at each byte.

#include "base/differing.hpp"

#include "support/check.hpp"

namespace wexlo::test {
namespace {

std::vector<DifferentPlace> by_the_byte(View a, View b, std::size_t gap) {
  std::vector<DifferentPlace> out;
  for (std::size_t at = 0; at < a.size(); ++at) {
    if (a[at] == b[at]) continue;
    if (!out.empty() && at < out.back().offset + out.back().size + gap)
      out.back().size = at + 1 - out.back().offset;
    else
      out.push_back({at, 1});
  }
  return out;
}

std::string text_of(const std::vector<DifferentPlace>& places) {
  std::string out;
  for (const DifferentPlace& one : places)
    out += std::to_string(one.offset) + "+" + std::to_string(one.size) + " ";
  return out;
}

}  // namespace

TEST_CASE("differing: the same places as found byte by byte, over long equal stretches, too") {
  Random random(11);
  for (const std::size_t size : {0u, 1u, 4095u, 4096u, 4097u, 20'000u})
    for (const std::size_t changes : {0u, 1u, 3u, 40u}) {
      const std::string a = noise(size, 3);
      std::string b = a;
      for (std::size_t i = 0; i < changes && size != 0; ++i)
        b[random() % size] ^= 1;
      for (const std::size_t gap : {1u, 8u, 4096u}) {
        CAPTURE(size);
        CAPTURE(gap);
        CHECK(text_of(differing(as_view(a), as_view(b), gap)) ==
              text_of(by_the_byte(as_view(a), as_view(b), gap)));
      }
    }
}

TEST_CASE("differing: few places hold all that differs, and what one does not have is the last") {
  const std::string a = noise(9000, 4);
  std::string b = a;
  for (std::size_t at = 10; at < b.size(); at += 100)
    b[at] ^= 1;
  const auto few = differing_at_most(as_view(a), as_view(b + "tail"), 5);
  REQUIRE(few.size() >= 2);
  CHECK(few.size() <= 6);
  CHECK(few.back().offset == a.size());
  CHECK(few.back().size == 4);
  for (std::size_t at = 10; at < b.size(); at += 100)
    CHECK(std::ranges::count_if(few, [&](const DifferentPlace& one) {
            return at >= one.offset && at < one.offset + one.size;
          }) == 1);
}

}  // namespace wexlo::test
