#include "image/device_tree.hpp"

#include <set>

#include "codec/codec.hpp"
#include "firmware/formats.hpp"
#include "support/boot.hpp"
#include "support/check.hpp"
#include "support/run.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

const std::string kOne = device_tree("Korvale Tarn 3", "korvale,gnomon", "enforcing=0");
const std::string kTwo = device_tree("Korvale Tarn 2 board B", "korvale,vernier-b");
const std::string kLong =
    device_tree("Korvale Tarn 1 with quite a longer name", "korvale,plumbline");

std::string models(const std::string& place) {
  std::string out;
  for (const dt::DtBlob& one : dt::blobs(blob(place)))
    out += one.facts.model + ";";
  return out;
}

}  // namespace

TEST_CASE("device tree: named by model and compatible, with its boot arguments") {
  const auto facts = dt::facts_of(as_view(kOne));
  CHECK(facts.model == "Korvale Tarn 3");
  CHECK(facts.compatible == std::vector<std::string>{"korvale,gnomon"});
  CHECK(facts.bootargs == "enforcing=0");
  CHECK_FALSE(facts.overlay);
  CHECK(dt::facts_of(as_view(noise(100))).model.empty());
}

TEST_CASE("device tree: a header that is not sane is none, whatever its magic") {
  for (const auto& [at, value] : {std::pair<std::size_t, std::uint32_t>{4, 10},
                                  {4, 0x7fffffff},
                                  {4, 0xffffffff},
                                  {8, 0x10000},
                                  {24, 18},
                                  {20, 3}}) {
    std::string bad = kOne;
    bad.replace(at, 4, be32(value));
    CAPTURE(at);
    CAPTURE(value);
    CHECK_FALSE(dt::fdt_size(as_view(bad)));
  }
  // A tree of version 0 made the library read through a null pointer.
  std::string old = be32(0xd00dfeed) + be32(0x108) + std::string(0x100, '\0');
  CHECK(dt::facts_of(as_view(old)).model.empty());
}

TEST_CASE("chain: trees one after the other, with padding between and bytes behind") {
  CHECK(models(kOne + kTwo) == "Korvale Tarn 3;Korvale Tarn 2 board B;");
  CHECK(models(kOne + std::string(9, '\0') + kTwo + "behind") ==
        "Korvale Tarn 3;Korvale Tarn 2 board B;");
  CHECK(models("x" + kOne).empty());
}

TEST_CASE("chain: a replaced tree keeps what is around it, and readers can step over it") {
  const std::string place = kOne + kTwo + "behind it";
  const auto out = dt::replace(blob(place), {{0, blob(kLong)}});
  REQUIRE(out);
  CHECK(models(text(*out)) == "Korvale Tarn 1 with quite a longer name;Korvale Tarn 2 board B;");
  CHECK(text(*out).ends_with(kTwo + "behind it"));
  CHECK((out->size() - place.size()) % 8 == 0);
  CHECK(text(*dt::replace(blob(place), {{1, blob(kTwo)}})) == place);
  CHECK(dt::replace(blob(place), {{0, blob("no tree")}}).error().code == ErrorCode::BadValue);
}

TEST_CASE("table: versions 0 and 1, shared and packed trees, and identity") {
  const TableBytes plain{.blobs = {kOne, kTwo}, .rows = {{0, 1, 2}, {1, 3, 4}, {0, 5, 6}}};
  const auto blobs = dt::blobs(blob(plain.done()));
  REQUIRE(blobs.size() == 2);
  CHECK(blobs[0].entries == std::vector<std::string>{"0: id 0x1, rev 0x2", "2: id 0x5, rev 0x6"});
  const TableBytes packed{
      .version = 1,
      .blobs = {gzip(kOne), text(*encode(Compression::Zlib, as_view(kTwo))), kLong},
      .rows = {{0, 0, 0, 2}, {1, 0, 0, 1}, {2}}};
  const auto unpacked = dt::blobs(blob(packed.done()));
  REQUIRE(unpacked.size() == 3);
  CHECK(unpacked[0].compression == "gzip");
  CHECK(unpacked[1].compression == "zlib");
  CHECK(unpacked[1].facts.model == "Korvale Tarn 2 board B");
  CHECK(unpacked[2].compression == "none");
  for (const TableBytes& table : {plain, packed}) {
    const std::string bytes = table.done() + std::string(5000, '\0');
    const auto image = load_image(blob(bytes), "dtbo.img");
    REQUIRE(image);
    check_same(image->image->write(), as_view(bytes));
  }
}

TEST_CASE("table: a replaced tree moves the others, shared rows follow, packed ones stay packed") {
  const TableBytes plain{.blobs = {kOne, kTwo}, .rows = {{0, 1, 2}, {1, 3, 4}, {0, 5, 6}}};
  const auto out = dt::replace(blob(plain.done()), {{0, blob(kLong)}});
  REQUIRE(out);
  const auto blobs = dt::blobs(Blob(Bytes(*out)));
  REQUIRE(blobs.size() == 2);
  CHECK(text(blobs[0].fdt) == kLong);
  CHECK(text(blobs[1].fdt) == kTwo);
  CHECK(blobs[0].entries.size() == 2);
  CHECK(load<std::uint32_t, std::endian::big>(out->data() + 4) == out->size());
  const TableBytes packed{.version = 1, .blobs = {gzip(kOne)}, .rows = {{0, 0, 0, 2}}};
  const auto again = dt::replace(blob(packed.done()), {{0, blob(kTwo)}});
  REQUIRE(again);
  const auto fresh = dt::blobs(Blob(Bytes(*again)));
  CHECK(fresh[0].compression == "gzip");
  CHECK(text(fresh[0].fdt) == kTwo);
}

TEST_CASE("table: rows and trees outside it are refused with their place") {
  const std::string good = TableBytes{.blobs = {kOne}}.done();
  const auto with = [&](std::size_t at, std::uint32_t value) {
    std::string bytes = good;
    bytes.replace(at, 4, be32(value));
    return dt::parse_table(blob(bytes));
  };
  CHECK(with(16, 2000).error().offset == 16);        // rows
  CHECK(with(12, 8).error().offset == 12);           // row size
  CHECK(with(32, 0x7fffffff).error().offset == 36);  // a tree's size
  CHECK(with(36, 40).error().offset == 36);          // a tree over the rows
  CHECK(with(28, 2).error().code == ErrorCode::Unsupported);
  CHECK(with(4, 16).error().offset == 4);  // total_size
  CHECK(with(4, 16).error().code == ErrorCode::BadValue);
  // As many rows as there is room for lie over the tree; one more lies outside.
  const auto rows = static_cast<std::uint32_t>((good.size() - 32) / 32);
  CHECK(with(16, rows).error().offset == 36);
  CHECK(with(16, rows + 1).error().offset == 16);
  CHECK(with(4, 0xffffff).error().code == ErrorCode::Truncated);
  for (std::size_t size = 0; size < good.size(); size += 7)
    CHECK_FALSE(dt::parse_table(blob(good.substr(0, size))));
}

TEST_CASE("older tables: trees are listed and replaced within their room") {
  const std::string room = kOne + std::string(400, '\0');
  const auto at = static_cast<std::uint32_t>(12 + 2 * 24);
  const auto size = static_cast<std::uint32_t>(room.size());
  const std::string qcdt = "QCDT" + le32(2) + le32(2) + le32(1) + le32(2) + le32(3) + le32(4) +
                           le32(at) + le32(size) + le32(5) + le32(6) + le32(7) + le32(8) +
                           le32(at) + le32(size) + room;
  CHECK(models(qcdt) == "Korvale Tarn 3;");
  const auto out = dt::replace(blob(qcdt), {{0, blob(kLong)}});
  REQUIRE(out);
  CHECK(out->size() == qcdt.size());
  CHECK(models(text(*out)) == "Korvale Tarn 1 with quite a longer name;");
  const std::string dtbh = "DTBH" + le32(2) + le32(1) + le32(1) + le32(2) + le32(3) + le32(4) +
                           le32(5) + le32(44) + le32(size) + le32(6) + room;
  CHECK(models(dtbh) == "Korvale Tarn 3;");
}

TEST_CASE("chain as an image: identity, and what dtc says of a tree that was put in") {
  const TempDir dir;
  const std::string bytes = kOne + kTwo + std::string(4096, '\0');
  const auto image = load_image(blob(bytes), "dtb.img");
  REQUIRE(image);
  CHECK(image->image->kind() == "dtb");
  check_same(image->image->write(), as_view(bytes));
  const auto out = dt::replace(blob(bytes), {{0, blob(kLong)}});
  test::write(dir / "chain.dtb", text(*out));
  const auto said = shell("dtc -I dtb -O dts chain.dtb", dir.path().string());
  CHECK(said.exit_code == 0);
  CHECK(said.out.find("Korvale Tarn 1 with quite a longer name") != std::string::npos);
  CHECK(load_image(blob(kOne.substr(0, 60)), "cut").error().code == ErrorCode::Truncated);
}

TEST_CASE(
    "device tree: one that says a byte more than there is, is none; zeros up to a page may stand "
    "before") {
  std::string longer = kOne;
  longer.replace(4, 4, be32(static_cast<std::uint32_t>(kOne.size() + 1)));
  CHECK_FALSE(dt::fdt_size(as_view(longer)));
  CHECK(dt::fdt_size(as_view(longer + "x")) == kOne.size() + 1);
  CHECK(models(kOne + std::string(4095 - kOne.size() % 8, '\0') + kTwo).contains("board B"));
  CHECK_FALSE(models(kOne + std::string(8192, '\0') + kTwo).contains("board B"));
}

TEST_CASE("device tree: nodes are followed to a depth that no phone's tree has") {
  const TempDir dir;
  std::string source = "/dts-v1/; / {";
  for (int depth = 1; depth <= 100; ++depth)
    source += " n { d" + std::to_string(depth) + " = <1>;";
  for (int depth = 0; depth <= 100; ++depth)
    source += " };";
  write(dir / "x.dts", source);
  REQUIRE(shell("dtc -q -I dts -O dtb x.dts > x.dtb", dir.path().string()).exit_code == 0);
  std::set<std::string> seen;
  for (const auto& [place, value] : dt::flattened(as_view(read(dir / "x.dtb"))))
    if (const std::size_t at = place.find(":d"); at != place.npos)
      seen.insert(place.substr(at + 1));
  CHECK(seen.contains("d1"));
  CHECK(seen.contains("d60"));
  CHECK_FALSE(seen.contains("d70"));
}
