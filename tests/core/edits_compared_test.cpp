/// What a recipe says that it did, and what an independent comparison of the two images finds: the
/// same places, no more and no less.

#include <fmt/ranges.h>

#include "compare/compare.hpp"
#include "core/edits_bench.hpp"

namespace wexlo::test {
namespace {

/// Places in one spelling: "/init", "kernel 0x12c", "tree dtb 0", "cmdline quiet", "header name".
using Places = std::set<std::string>;

/// Of a fragment the place counts: "vendor_ramdisk.0: /init".
std::string place_in_ramdisk(const std::string& where) {
  const auto at = where.find(": /");
  return at == where.npos ? where : where.substr(at + 2);
}

std::string one_line(const Places& places) {
  return fmt::format("{}", fmt::join(places, " | "));
}

std::string word_name(const std::string& word) {
  return word.substr(0, word.find('='));
}

/// What the edits say.
Places said(const Patched& done) {
  Places out;
  for (const auto* list : {&done.edits, &done.added})
    for (const EditReport& edit : *list)
      for (const Effect& effect : edit.effects) {
        const std::string& where = effect.where;
        if (where.starts_with('/'))
          // `:entry` of a text, ` (access)` of an entry: the file counts.
          out.insert(where.substr(0, where.find_first_of(": ")));
        else if (where.starts_with("vbmeta"))
          out.insert({"vbmeta flags", "header flags"});
        else if (const auto at = where.find(" device tree "); at != where.npos)
          out.insert("tree " + where.substr(0, at));
        else if (const auto name = where.find('"'); name != where.npos)
          out.insert("vendor_ramdisk." + where.substr(name + 1, where.rfind('"') - name - 1));
        else
          out.insert(where);
      }
  std::erase_if(out, [](const std::string& one) { return one.starts_with("/wexlo/"); });
  return out;
}

/// What the comparison finds, but for what follows from any change: sizes, digests, packing, what
/// Wexlo keeps of it, and folders on the way.
Places found_by(const ImageComparison& compared, const Places& wanted) {
  Places out;
  const auto is_above = [&](const std::string& place) {
    return std::ranges::any_of(
        wanted, [&](const std::string& one) { return one.starts_with(place + "/"); });
  };
  for (const Difference& one : compared.differences) {
    const std::string place = place_in_ramdisk(one.where);
    switch (one.area) {
      case DifferenceArea::Ramdisk:
        if (place != "/wexlo" && !place.starts_with("/wexlo/") && !is_above(place))
          out.insert(place);
        break;
      case DifferenceArea::Kernel:
        // Of one that was put in whole its bytes are not told.
        if (!wanted.contains("kernel"))
          out.insert("kernel " + one.where.substr(0, one.where.find(' ')));
        break;
      case DifferenceArea::DeviceTree:
        out.insert("tree " + one.where.substr(0, one.where.rfind(' ')));
        break;
      case DifferenceArea::Cmdline: out.insert("cmdline " + word_name(one.where)); break;
      case DifferenceArea::Bootconfig: out.insert("bootconfig"); break;
      case DifferenceArea::Header:
        if (one.where != "id") out.insert("header " + one.where);
        break;
      case DifferenceArea::Vbmeta:
        if (one.where == "flags") out.insert("vbmeta flags");
        break;
      case DifferenceArea::Part:
        if (one.kind == DifferenceKind::Added || wanted.contains(one.where)) out.insert(one.where);
        break;
      case DifferenceArea::Selinux:
      case DifferenceArea::Wrapping:
      case DifferenceArea::Partition: break;
    }
  }
  return out;
}

}  // namespace

TEST_CASE("edits: a comparison finds just the places that the recipe says it changed") {
  const TempDir dir;
  write_files(dir);
  std::set<std::string> compared_kinds;
  for (const std::string& example : examples()) {
    const auto recipes = load_example(dir, example);
    const std::string kind = kind_of(example);
    int compared = 0;
    for (const Named& image : images()) {
      // Under the sanitizers some images of each kind will do.
      if (watched() && compared > 1) break;
      CAPTURE(kind);
      CAPTURE(image.name);
      const LoadedImage stock = load(image.bytes);
      const auto done =
          patch_image(stock, {.partition = image.partition, .allow_programs = true}, recipes);
      REQUIRE(done);
      if (!done->changed) continue;
      ++compared;
      const Places wanted = said(*done);
      const LoadedImage patched = load(text(done->bytes));
      const Places found = found_by(value_of(compare_images(stock, patched, {})), wanted);
      CHECK(one_line(found) == one_line(wanted));
      compared_kinds.insert(kind);
    }
  }
  CHECK(compared_kinds.size() == 25);
}

}  // namespace wexlo::test
