#pragma once
/// A parts folder to edit and put together again.

#include "image/fragments.hpp"
#include "parts/parts.hpp"
#include "support/boot.hpp"
#include "support/check.hpp"

namespace wexlo::test {

/// A parts folder made from an image.
struct PartsBench {
  explicit PartsBench(const std::string& image) : stock(image) {
    const auto loaded = load_image(blob(image), "test.img");
    REQUIRE(loaded);
    const auto unpacked = parts::unpack(*loaded, folder(), Overwrite::Refuse);
    REQUIRE_MESSAGE(unpacked, (unpacked ? "" : describe(unpacked.error())));
  }
  [[nodiscard]] std::filesystem::path folder() const { return dir / "parts"; }
  [[nodiscard]] std::filesystem::path operator/(const std::string& name) const {
    return folder() / name;
  }
  [[nodiscard]] parts::Repacked repack() const {
    auto repacked = parts::repack(folder());
    REQUIRE_MESSAGE(repacked, (repacked ? "" : describe(repacked.error())));
    return std::move(*repacked);
  }
  [[nodiscard]] Ramdisk ramdisk() const {
    const auto image = load_image(Blob(repack().bytes), "again");
    REQUIRE(image);
    return *parse_ramdisk(image->image->section("ramdisk")->bytes);
  }
  void edit(const std::string& file, const std::string& from, const std::string& to) const {
    std::string all = test::read(folder() / file);
    const std::size_t at = all.find(from);
    REQUIRE(at != std::string::npos);
    all.replace(at, from.size(), to);
    test::write(folder() / file, all);
  }
  TempDir dir;
  std::string stock;
};

/// `part what place` of each change, a line each.
inline std::string told(const parts::Repacked& repacked) {
  std::string out;
  for (const auto& c : repacked.changes)
    out += c.part + " " + c.what + " " + c.place + "\n";
  return out;
}

}  // namespace wexlo::test
