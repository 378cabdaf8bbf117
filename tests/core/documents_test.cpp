/// Every key of every TOML document and of extract.json, set to another type, an extreme number and
/// a long text: an answer, or an error that says where. kit.json is looked at through the program.

#include <functional>
#include <nlohmann/json.hpp>
#include <sstream>

#include "firmware/content.hpp"
#include "firmware/extract_manifest.hpp"
#include "firmware/formats.hpp"
#include "job/batch.hpp"
#include "kit/facts/sheet.hpp"
#include "kit/folder/manifest.hpp"
#include "parts/parts.hpp"
#include "recipe/recipe.hpp"
#include "support/boot.hpp"
#include "support/check.hpp"
#include "support/places.hpp"
#include "text/toml_read.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

/// Values that a reader may not have thought of. Each is a line of TOML.
const std::vector<std::string>& odd_values() {
  static const std::vector<std::string> all{
      "true",
      "7",
      "-1",
      "9223372036854775807",
      "-9223372036854775808",
      "1e300",
      "nan",
      "\"\"",
      "\"x\"",
      "\"../x\"",
      "\"18446744073709551616\"",
      "\"" + std::string(100'000, 'a') + "\"",
      "[]",
      "[1, \"x\", [2]]",
      "[[[]]]",
      "{}",
      "{ a = 1 }",
      "2026-09-05T10:00:00Z",
  };
  return all;
}

/// Puts another value at the n-th place of a document, counted depth first. false: there is none.
class Change {
 public:
  Change(std::size_t n, const toml::node& value) : left_(n), value_(value) {}
  bool in(toml::table& table) {
    for (auto& [key, node] : table) {
      if (left_-- == 0) {
        at_ = std::string(key.str());
        value_.visit([&](const auto& one) { table.insert_or_assign(at_, one); });
        return true;
      }
      if (below(node)) return true;
    }
    return false;
  }
  [[nodiscard]] const std::string& place() const { return at_; }

 private:
  bool in(toml::array& list) {
    for (std::size_t i = 0; i < list.size(); ++i) {
      if (left_-- == 0) {
        at_ = "[" + std::to_string(i) + "]";
        value_.visit([&](const auto& one) {
          list.replace(list.cbegin() + static_cast<std::ptrdiff_t>(i), one);
        });
        return true;
      }
      if (below(list[i])) return true;
    }
    return false;
  }
  bool below(toml::node& node) {
    if (toml::table* table = node.as_table()) return in(*table);
    if (toml::array* list = node.as_array()) return in(*list);
    return false;
  }
  std::size_t left_;
  const toml::node& value_;
  std::string at_;
};

/// @param read  reads the document's text: nullopt: it was taken
void check_each_key(const std::string& text,
                    const std::function<std::optional<Error>(const std::string&)>& read) {
  const auto trouble = read(text);
  REQUIRE_MESSAGE(!trouble, (trouble ? describe(*trouble) : ""));
  const toml::table whole = value_of(parse_toml(text, "whole"));
  std::size_t places = 0, refused = 0;
  for (bool more = true; more; ++places)
    for (const std::string& odd : odd_values()) {
      const toml::table holder = value_of(parse_toml("x = " + odd, "odd"));
      toml::table changed = whole;
      Change change(places, *holder.get("x"));
      more = change.in(changed);
      if (!more) break;
      std::ostringstream out;
      out << changed;
      CAPTURE(change.place());
      CAPTURE(odd.substr(0, 40));
      const auto error = read(out.str());
      if (!error) continue;
      ++refused;
      CAPTURE(describe(*error));
      CHECK_FALSE(error->message.empty());
      CHECK_FALSE(error->file.empty());
      CHECK(describe(*error).size() < 1000);
      CHECK(error->code != ErrorCode::Internal);
    }
  CHECK(places > 3);
  CHECK(refused > places);  // most of them are no values for any key
}

template <class T>
std::optional<Error> failed(const Result<T>& result) {
  if (result) return std::nullopt;
  return result.error();
}

const char* const kSheet =
    "format = 1\n[phone]\ncodename = \"gnomon\"\nproduct = { value = \"gnomon\", source = "
    "\"bench\" "
    "}\narchitecture = \"arm64\"\nmode = \"bootloader\"\n[build]\nfingerprint = "
    "\"korvale/gnomon/gnomon:16/A/1:user/release-keys\"\npatch_level = \"2026-09-05\"\nsdk = 36\n"
    "[state]\nlock = \"unlocked\"\nslots = 2\ncurrent_slot = \"a\"\nupdate = \"none\"\n"
    "battery_percent = 80\nbattery_enough = \"yes\"\ndownload_limit = \"0x10000000\"\n"
    "anti_rollback = 3\n[super]\nsize = 1000000\nfree = 4096\n[partitions]\nboot_a = 67108864\n"
    "[rollback]\n0 = 5\n1 = \"0x6\"\n[[group]]\nname = \"main_a\"\nsize = 0\n[[logical]]\nname = "
    "\"system_a\"\nsize = 4096\ngroup = \"main_a\"\n[access]\nbootloader = \"keys\"\nnotes = "
    "\"n\"\n";

const char* const kTray =
    "format = 1\n[[job]]\nfirmware = [\"fw/x.zip\", \"y.zip\"]\nrecipes = [[\"r.toml\"], "
    "[\"@bundled\", \"s.toml\"]]\nsheets = [\"one.toml\"]\nkit = "
    "\"{sheet}/{firmware}-{recipes}\"\nset = { a = \"1\" }\nwith = { recovery = \"rec.img\" }\n"
    "install = \"s.zip\"\naccept = [\"build\"]\nslots = \"both\"\nwipe = true\nkey = \"k.pem\"\n";

/// Every kind of edit as the manual shows it, in one recipe.
std::string documented_recipe() {
  std::istringstream page(
      test::read(std::filesystem::path(test::source_folder()) / "docs/recipes.md"));
  std::string out =
      "format = 1\nname = \"all\"\n[parameters.program]\nabout = \"z\"\ndefault = \"x\"\n";
  bool in_edit = false;
  for (std::string line; std::getline(page, line);) {
    if (line.starts_with("```")) in_edit = false;
    if (line.starts_with("[[edit]]")) in_edit = true;
    if (in_edit) out += line + "\n";
  }
  return out;
}

}  // namespace

TEST_CASE("documents: every key of a sheet, of another type and extreme") {
  const TempDir dir;
  check_each_key(kSheet, [&](const std::string& text) {
    test::write(dir / "sheet.toml", text);
    return failed(read_sheet(dir / "sheet.toml"));
  });
}

TEST_CASE("documents: every key of a tray, of another type and extreme") {
  const TempDir dir;
  check_each_key(kTray, [&](const std::string& text) {
    test::write(dir / "tray.toml", text);
    return failed(read_tray(dir / "tray.toml"));
  });
}

TEST_CASE("documents: every key of a recipe, of another type and extreme") {
  // Without the files that they bring: what stands in the recipe itself is read all the same.
  const auto read = [](const std::string& text) { return failed(describe_recipe(text, "r.toml")); };
  const std::string all = documented_recipe();
  CHECK(std::ranges::count(all, '[') > 40);
  check_each_key(all, read);
  for (const BundledRecipe& one : bundled_recipes()) {
    CAPTURE(one.name);
    check_each_key(std::string(one.text), read);
  }
}

TEST_CASE("documents: every key of parts.toml, of another type and extreme") {
  const TempDir dir;
  const std::string image =
      VendorBootBytes{.version = 4,
                      .ramdisk = lz4_legacy(CpioBytes{}.folder("a").file("a/x", "y").done()),
                      .dtb = device_tree("Tarn 3", "korvale,gnomon"),
                      .bootconfig = "a.b = 1\n",
                      .cmdline = "quiet"}
          .done();
  const LoadedImage loaded =
      value_of(load_image(Blob(to_bytes(as_view(image))), "vendor_boot.img"));
  REQUIRE(parts::unpack(loaded, dir / "parts", Overwrite::Refuse));
  const std::string text = test::read(dir / "parts/parts.toml");
  check_each_key(text, [&](const std::string& changed) {
    test::write(dir / "parts/parts.toml", changed);
    return failed(parts::repack(dir / "parts"));
  });
}

TEST_CASE("documents: every key of extract.json, of another type and extreme") {
  const nlohmann::json good = {
      {"format", 1},
      {"firmware", "ota.zip"},
      {"kind", "ota-zip"},
      {"build", {{"fingerprint", "f"}, {"timestamp", 5}}},
      {"partitions",
       {{{"name", "boot"}, {"file", "boot.img"}, {"size", 5}, {"sha256", std::string(64, 'a')}}}}};
  REQUIRE(parse_extract_manifest(good.dump(), "extract.json"));
  std::size_t refused = 0;
  for (const char* at : {"/format", "/firmware", "/kind", "/build", "/build/timestamp",
                         "/partitions", "/partitions/0", "/partitions/0/name", "/partitions/0/file",
                         "/partitions/0/size", "/partitions/0/sha256"})
    for (const nlohmann::json& odd :
         {nlohmann::json(7), nlohmann::json(-1), nlohmann::json(1e300), nlohmann::json(true),
          nlohmann::json("x"), nlohmann::json(std::string(100'000, 'a')), nlohmann::json::array(),
          nlohmann::json::object(), nlohmann::json::array({nlohmann::json::array()}),
          nlohmann::json(18446744073709551615u)}) {
      nlohmann::json changed = good;
      changed[nlohmann::json::json_pointer(at)] = odd;
      CAPTURE(changed.dump().substr(0, 300));
      const auto got = parse_extract_manifest(changed.dump(), "extract.json");
      if (got) continue;
      ++refused;
      CHECK(got.error().file == "extract.json");
      CHECK(describe(got.error()).size() < 1000);
    }
  CHECK(refused > 60);
  nlohmann::json newer = good;
  newer["format"] = 2;
  CHECK(parse_extract_manifest(newer.dump(), "extract.json").error().code ==
        ErrorCode::Unsupported);
}
