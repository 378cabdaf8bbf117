#include "figure/figures.hpp"

#include <tinyxml2.h>

#include <algorithm>
#include <random>

#include "figure/hatch.hpp"
#include "support/check.hpp"
#include "support/run.hpp"

using namespace wexlo;
using namespace wexlo::figure;
using namespace wexlo::test;

namespace {

struct Area {
  double left, top, right, bottom;
  std::string text;
};

/// Where a label may reach: who writes it squeezes what is wider than the table says.
Area area_of(const Label& one) {
  const double width = text_width(one.text, one.size, one.bold);
  const double left = one.anchor == Anchor::Start    ? one.x
                      : one.anchor == Anchor::Middle ? one.x - width / 2
                                                     : one.x - width;
  return {left, one.y - one.size * 0.75, left + width, one.y + one.size * 0.2, one.text};
}

void check_labels(const Scene& scene) {
  std::vector<Area> all;
  for (const auto& shape : scene.shapes)
    if (const auto* label = std::get_if<Label>(&shape); label != nullptr && !label->text.empty())
      all.push_back(area_of(*label));
  CHECK_FALSE(all.empty());
  for (std::size_t i = 0; i < all.size(); ++i) {
    const Area& one = all[i];
    CAPTURE(one.text);
    CHECK(one.left >= 0);
    CHECK(one.right <= scene.width);
    CHECK(one.top >= 0);
    CHECK(one.bottom <= scene.height);
    for (std::size_t j = i + 1; j < all.size(); ++j) {
      const Area& other = all[j];
      CAPTURE(other.text);
      const bool over = one.left < other.right && other.left < one.right &&
                        one.top < other.bottom && other.top < one.bottom;
      CHECK_FALSE(over);
    }
  }
}

void check_boxes(const Scene& scene) {
  for (const auto& shape : scene.shapes)
    if (const auto* box = std::get_if<Box>(&shape)) {
      CHECK(box->width >= 0);
      CHECK(box->x >= -0.01);
      CHECK(box->x + box->width <= scene.width + 0.7);
      CHECK(box->y + box->height <= scene.height);
    }
}

/// Regions of any sizes, some next to nothing, with long and odd names.
std::vector<Region> regions(Random& random, std::uint64_t total) {
  const char* names[] = {"kernel",
                         "a",
                         "vendor_ramdisk_table",
                         "WWWWWWWWWWWWWWWWWWWWWWWWWWWWWWWWWW",
                         "<&\">",
                         "größe",
                         "表表表表表表表表表表表表表表表表表表表表表表表"};
  std::vector<Region> out;
  std::uint64_t at = 0;
  while (at < total && out.size() < 60) {
    const std::uint64_t size = std::min<std::uint64_t>(total - at, 1 + random() % 3 * random());
    out.push_back({.name = names[random() % std::size(names)],
                   .detail = random() % 2 ? names[random() % std::size(names)] : "",
                   .offset = at,
                   .size = size,
                   .ink = static_cast<Ink>(3 + random() % 9)});
    at += size + random() % 2 * (random() % 1000);
  }
  return out;
}

std::vector<Scene> any_scenes(unsigned seed) {
  Random random(seed);
  const std::uint64_t total = 1 + (std::uint64_t{random()} << random() % 8);
  const auto some = with_gaps(regions(random, total), total, "padding", Ink::Padding);
  const figure::Side before{"before", total, some},
      after{
          "after, with a name that is much longer than anybody would think of giving a file, but "
          "somebody did, and it is longer still than the page is wide, so that it has to be cut",
          total / 2, with_gaps(regions(random, total / 2 + 1), total / 2 + 1, "free", Ink::Free)};
  std::vector<ChainLine> lines;
  for (unsigned i = 0; i < random() % 30; ++i)
    lines.push_back({i == 0 ? 0 : random() % 9, "vbmeta_system_of_a_long_name_indeed",
                     "sha256-rsa4096, key 0123456789ab…, rollback 18446744073709551615",
                     "changed after signing", i % 2 ? Ink::Good : Ink::Bad});
  std::vector<PayloadBar> bars;
  for (unsigned i = 0; i < random() % 40; ++i)
    bars.push_back({"partition_of_a_rather_long_name" + std::to_string(i),
                    random(),
                    random(),
                    {{"REPLACE_XZ", random()},
                     {"ZERO", random() % 1000},
                     {"KIND" + std::to_string(i % 9), 5}}});
  const std::string title = random() % 2 ? "vendor_boot" : std::string(300, 'W');
  return {byte_map(title, total, some),
          change_map(title, before, after, regions(random, total)),
          change_map(title, before, before, {}),
          super_map(title, before, after),
          super_map(title, before, std::nullopt),
          chain_tree(title, lines, {"A locked phone: refuses. " + std::string(400, 'x')}),
          payload_bars(title, bars)};
}

}  // namespace

TEST_CASE("figures: labels never overlap and never leave the page, whatever is drawn") {
  for (unsigned seed = 0; seed < 40; ++seed) {
    CAPTURE(seed);
    for (const Scene& scene : any_scenes(seed)) {
      CAPTURE(scene.title);
      check_labels(scene);
      check_boxes(scene);
    }
  }
}

TEST_CASE("figures: nothing at all is a figure, too") {
  check_labels(byte_map("empty", 0, {}));
  check_labels(super_map("empty", {"super", 0, {}}, std::nullopt));
  check_labels(chain_tree("empty", {}, {}));
  check_labels(payload_bars("empty", {}));
}

TEST_CASE("figures: bars are to scale") {
  const Scene scene =
      byte_map("x", 1000, {{"a", "", 0, 250, Ink::Kernel}, {"b", "", 250, 750, Ink::Tree}});
  std::vector<double> widths;
  for (const auto& shape : scene.shapes)
    if (const auto* box = std::get_if<Box>(&shape);
        box != nullptr && box->height > 30 && box->filled)
      widths.push_back(box->width);
  REQUIRE(widths.size() == 2);
  CHECK((widths[1] + 1) / (widths[0] + 1) == doctest::Approx(3).epsilon(0.001));
}

TEST_CASE("figures: gaps are filled, and regions that run over each other or the end are cut") {
  const auto got = with_gaps({{"b", "", 30, 10, Ink::Other},
                              {"a", "", 10, 25, Ink::Kernel},
                              {"far", "", 90, ~std::uint64_t{0}, Ink::Tree},
                              {"out", "", 200, 5, Ink::Tree},
                              {"none", "", 50, 0, Ink::Tree}},
                             100, "padding", Ink::Padding);
  std::string shape;
  std::uint64_t at = 0;
  for (const Region& one : got) {
    CHECK(one.offset == at);
    at += one.size;
    shape += one.name + ":" + std::to_string(one.size) + " ";
  }
  CHECK(at == 100);
  CHECK(shape == "padding:10 a:25 b:5 padding:50 far:10 ");
}

TEST_CASE("figures: texts are cut where there is no room, by whole characters") {
  CHECK(fitted("short", 500, 12) == "short");
  const std::string cut = fitted("größer als der Platz dafür", 60, 12);
  CHECK(cut.ends_with("…"));
  CHECK(text_width(cut, 12) <= 60);
  CHECK(fitted("x", 0, 12).empty());
}

TEST_CASE("figures: inks keep apart by lightness or hatch, so that grey print can be read") {
  const auto lightness = [](Colour c) { return 0.299 * c.red + 0.587 * c.green + 0.114 * c.blue; };
  const Ink filled[] = {Ink::Header, Ink::Kernel,  Ink::Ramdisk, Ink::Tree,   Ink::Signature,
                        Ink::Other,  Ink::Padding, Ink::Free,    Ink::Changed};
  for (const Ink one : filled)
    for (const Ink other : filled) {
      if (one == other) continue;
      CAPTURE(ink_name(one));
      CAPTURE(ink_name(other));
      CHECK((std::abs(lightness(light(one)) - lightness(light(other))) > 0.08 ||
             hatch_of(one) != hatch_of(other)));
    }
  // Text on its paper: the ratio that is asked of readable text.
  for (const Ink ink : {Ink::Text, Ink::Faint, Ink::Good, Ink::Bad}) {
    CAPTURE(ink_name(ink));
    CHECK(lightness(light(ink)) < 0.42);
    CHECK(lightness(dark(ink)) > 0.58);
  }
}

TEST_CASE("svg: well-formed, with real text and a title, the same each time, no scripts") {
  for (unsigned seed = 0; seed < 10; ++seed)
    for (const Scene& scene : any_scenes(seed)) {
      const std::string svg = to_svg(scene);
      CHECK(svg == to_svg(scene));
      tinyxml2::XMLDocument document;
      REQUIRE(document.Parse(svg.c_str(), svg.size()) == tinyxml2::XML_SUCCESS);
      const auto* root = document.FirstChildElement("svg");
      REQUIRE(root != nullptr);
      CHECK(std::string(root->FirstChildElement("title")->GetText()) == scene.title);
      CHECK(svg.find("<script") == std::string::npos);
      CHECK(svg.find("href") == std::string::npos);
    }
}

TEST_CASE("png and pdf: what general programs say of them, and the same each time") {
  const TempDir dir;
  const Scene scene = any_scenes(3).front();
  const Bytes png = value_of(to_png(scene)), pdf = value_of(to_pdf(scene));
  write(dir / "a.png", text(png));
  write(dir / "a.pdf", text(pdf));
  const std::string told = run({"file", "a.png", "a.pdf"}, dir.path().string()).out;
  CHECK(told.find("PNG image data, 2000 x") != std::string::npos);
  CHECK(told.find("PDF document") != std::string::npos);
  CHECK(png == value_of(to_png(scene)));
  CHECK(pdf == value_of(to_pdf(scene)));
  Scene huge = scene;
  huge.height = 1e7;
  CHECK(to_png(huge).error().code == ErrorCode::LimitExceeded);
}

TEST_CASE("hatches: lines stay in their box") {
  Random random(2);
  for (int round = 0; round < 200; ++round) {
    const Box box{.x = double(random() % 900),
                  .y = double(random() % 900),
                  .width = double(random() % 300),
                  .height = double(random() % 60),
                  .ink = Ink::Free,
                  .hatch = static_cast<Hatch>(1 + random() % 4)};
    for (const Segment& line : hatch_lines(box))
      for (const auto& [x, y] : {std::pair{line.x1, line.y1}, std::pair{line.x2, line.y2}}) {
        CHECK(x >= box.x - 0.01);
        CHECK(x <= box.x + box.width + 0.01);
        CHECK(y >= box.y - 0.01);
        CHECK(y <= box.y + box.height + 0.01);
      }
  }
}
