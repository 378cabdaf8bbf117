/// Sheets, listings that are renewed, and images put into packages.

#include <algorithm>

#include "firmware/formats.hpp"
#include "firmware/insert.hpp"
#include "firmware/relist.hpp"
#include "kit/facts/sheet.hpp"
#include "support/boot.hpp"
#include "support/containers.hpp"
#include "target.hpp"

namespace wexlo::fuzz {
namespace {

const std::string kOld(64, 'a'), kNew(64, 'b');

}  // namespace

/// As a sheet, and as properties pasted from a phone: what comes out can be written and read again.
void sheet(View input) {
  const std::string text(as_text(input));
  const auto read = parse_sheet(text, "sheet.toml");
  for (const Sheet& one : {read ? *read : Sheet(), sheet_from_properties(text, "properties")}) {
    const std::string written = format_sheet(one);
    const auto again = parse_sheet(written, "again");
    must(again.has_value());
    must(format_sheet(*again) == written);
  }
}

std::vector<std::string> sheet_seeds() {
  return {
      "format = 1\n[phone]\ncodename = { value = \"gnomon\", source = \"x\" }\n[state]\nslots = "
      "\"2\"\n[partitions]\nboot_a = 0x100\n[rollback]\n0 = 1\n[access]\nnotes = \"a\"\n"
      "[[logical]]\nname = \"system_a\"\nsize = 5\ngroup = \"g\"\n[[group]]\nname = \"g\"\nsize = "
      "9\n",
      "(bootloader) partition-size:boot_a: 0x4000000\n[ro.product.device]: [gnomon]\n"
      "(bootloader) is-logical:system_a:yes\nro.build.version.sdk=36\nunlocked: no\n",
      std::string("\xff\xfe[\0r\0o\0.\0", 10)};
}

/// Nothing but digests and sizes may change: their lengths give the rest away.
void relisting(View input) {
  const std::string text(as_text(input));
  const Relisted got = relist(text, {{"boot.img", 100, 200, {{kOld, kNew}}}}, {"other.img"});
  must(got.text.size() == text.size());
  for (std::size_t i = 0; i < text.size(); ++i)
    must(got.text[i] == text[i] || (text[i] == 'a' && got.text[i] == 'b') ||
         (text[i] == 'A' && got.text[i] == 'B') || (text[i] == '1' && got.text[i] == '2') ||
         (text[i] == '6' && got.text[i] == 'c') || (text[i] == '4' && got.text[i] == '8') ||
         (text[i] == '6' && got.text[i] == 'C'));
  must(relist(got.text, {{"boot.img", 100, 100, {}}}, {}).text == got.text);
  (void)digest_kinds_in(text);
}

std::vector<std::string> relisting_seeds() {
  return {kOld + "  boot.img\n" + kOld + "  other.img\n",
          "<l><f name=\"boot.img\" size=\"100\" sha256=\"" + kOld +
              "\"/><f><n>boot.img</n><s>0x64</s></f></l>",
          "file: boot.img\nsize: 100\n\nfile: other.img\nsize: 100\n"};
}

/// A small image into the first partition of whatever it is: it comes out again.
void insertion(View input) {
  Context context;
  context.decode_bound = 4u << 20;
  const SourcePtr package = open_memory(Blob(to_bytes(input)), "package");
  const auto before = open_source(package, {.context = context});
  if (!before || (*before)->partitions.empty()) return;
  const std::string bytes = test::noise(5000);
  const SourcePtr image = open_memory(Blob(to_bytes(bytes)), "new.img");
  const PartitionFacts& first = (*before)->partitions.front();
  InsertReport report;
  const auto now =
      insert_into(package, (*before)->single, {wish_for(first, image)}, {"", context}, report);
  if (!now || (*now)->size() > (64u << 20)) return;
  const auto again = open_source(*now, {.context = context});
  if (!again) return;
  // Of two that have one name, either may be meant.
  const auto same = [&](const PartitionFacts& one) {
    return one.name == first.name && one.from == first.from;
  };
  if (std::ranges::count_if((*before)->partitions, same) != 1) return;
  const auto at = std::ranges::find_if((*again)->partitions, same);
  if (at == (*again)->partitions.end()) return;
  const auto read = read_partition(*at, 1u << 20, context);
  if (!read) return;
  must(read->size() >= bytes.size());
  must(equal(read->view().first(bytes.size()), as_view(bytes)));
}

std::vector<std::string> insertion_seeds() {
  using namespace test;
  SuperBytes super{.size = 96u << 10, .metadata_size = 1024};
  super.partitions = {{"system_a", {{8, 64}}}, {"vendor_a", {{8, 80}}}};
  SparseBytes sparse;
  sparse.raw(padded(super.done(), 4096));
  const std::string boot = BootBytes{.kernel = noise(100)}.done();
  return {super.done(), sparse.done(),
          tar({{"boot.img", boot}, {"sums.md5", std::string(32, '0') + "  boot.img\n"}}),
          test::zip({{"boot.img", boot, true}, {"x.zip", test::zip({{"dtbo.img", noise(600)}})}})};
}

}  // namespace wexlo::fuzz
