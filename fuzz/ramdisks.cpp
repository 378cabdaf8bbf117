/// Archives, compressed streams and what is made of them.

#include "codec/settings.hpp"
#include "parts/tree_list.hpp"
#include "ramdisk/permissive.hpp"
#include "ramdisk/ramdisk.hpp"
#include "ramdisk/textfiles.hpp"
#include "support/boot.hpp"
#include "target.hpp"

namespace wexlo::fuzz {
namespace {

const DecodeLimit kSmall{.bytes = 4u << 20, .ratio_from = 1u << 20, .ratio = 300};

}  // namespace

void newc(View input) {
  const auto archive = newc::parse(Blob(to_bytes(input)));
  if (archive) must(equal(newc::write(*archive), input));
}

std::vector<std::string> newc_seeds() {
  using namespace test;
  return {first_ramdisk(), CpioBytes{}.file("a", "b").raw(),
          CpioBytes{}
                  .entry("A", "data", 0100644, 5, 2, 1, 2, 3, 0, 0, true)
                  .entry("B", "", 0100644, 5, 2)
                  .done() +
              first_ramdisk()};
}

void ramdisk(View input) {
  auto parsed = parse_ramdisk(Blob(to_bytes(input)), kSmall);
  if (!parsed) return;
  const auto same = encode_ramdisk(*parsed);
  must(same && equal(*same, input));
  if (!check_places(*parsed)) return;
  const std::string place = "wexlo-fuzz/file";
  if (!add_entry(*parsed, newc::Entry::make(place, newc::Regular | 0644, test::blob("x")))) return;
  // The encoder's settings are not what is tried here.
  for (RamdiskSegment& segment : parsed->segments) {
    segment.setting_known = true;
    segment.framing.level = 1;
  }
  const auto touched = encode_ramdisk(*parsed);
  if (!touched) return;
  const auto again = parse_ramdisk(Blob(Bytes(*touched)), {.bytes = 8u << 20, .ratio = 0});
  must(again && find_entry(*again, place));
}

std::vector<std::string> ramdisk_seeds() {
  using namespace test;
  const std::string archive = first_ramdisk();
  return {archive,
          gzip(archive),
          lz4_legacy(archive),
          lz4_legacy(archive, true),
          lz4_frame(archive),
          xz(archive),
          lzma(archive),
          bzip2(archive),
          zstd(archive),
          gzip(archive) + std::string(7, '\0') + gzip(archive),
          gzip(archive) + std::string((4 - gzip(archive).size() % 4) % 4, '\0') + archive};
}

void codec(View input) {
  constexpr Compression kinds[] = {Compression::Gzip, Compression::Lz4Legacy, Compression::Lz4Frame,
                                   Compression::Xz,   Compression::Lzma,      Compression::Bzip2,
                                   Compression::Zstd, Compression::Zlib,      Compression::Lzo};
  if (input.empty()) return;
  const auto kind = kinds[std::to_integer<unsigned>(input[0]) % std::size(kinds)];
  const View stream = input.subspan(1);
  const auto decoded = decode(kind, stream, kSmall);
  if (!decoded) return;
  must(decoded->consumed <= stream.size() && decoded->bytes.size() <= kSmall.bytes);
  Framing framing = framing_of(kind, stream.first(decoded->consumed), decoded->bytes.size());
  if (kind != Compression::Bzip2) framing.level = 1;
  // What replaces a stream in its own framing decodes to what was put in.
  const auto again = encode(kind, decoded->bytes, framing);
  if (!again || decoded->bytes.empty()) return;
  const auto back = decode(kind, *again, {.bytes = 8u << 20, .ratio = 0});
  must(back && equal(back->bytes, decoded->bytes));
}

std::vector<std::string> codec_seeds() {
  using namespace test;
  const std::string text = first_ramdisk();
  return {'\0' + gzip(text),
          '\1' + lz4_legacy(text, true),
          '\2' + lz4_frame(text),
          '\3' + xz(text),
          '\4' + lzma(text),
          '\5' + bzip2(text),
          '\6' + zstd(text),
          '\10' + std::string(as_text(*encode(Compression::Lzo, as_view(text))))};
}

void tree_list(View input) {
  const auto rows = parts::parse_rows(as_text(input));
  if (!rows) return;
  const auto again = parts::parse_rows(parts::format_rows(*rows));
  must(again && again->size() == rows->size());
  for (std::size_t i = 0; i < rows->size(); ++i)
    must((*rows)[i].same_attributes((*again)[i]) && (*rows)[i].name == (*again)[i].name);
}

std::vector<std::string> tree_list_seeds() {
  return {parts::format_rows(parts::rows_of(*parse_ramdisk(test::blob(test::first_ramdisk())))),
          "stream gzip\nf 0644 0 0 0 - a%20b = 0001\nl 0777 0 0 0 - x -> y\nend\n"};
}

void text_files(View input) {
  const std::string_view text = as_text(input);
  const auto dropped = drop_fstab_flags(text, "*", {"avb", "verify"});
  // Twice is once.
  must(drop_fstab_flags(dropped.text, "*", {"avb", "verify"}).text == dropped.text);
  const std::string set = set_property(text, "ro.x", "1");
  must(set_property(set, "ro.x", "1") == set);
  (void)fstab_rows(text);
  (void)permissive_words(text, "input");
  Framing framing;
  (void)set_setting(framing, text);
}

std::vector<std::string> text_files_seeds() {
  return {"/dev/x /system ext4 ro wait,avb=vbmeta,first_stage_mount\n#c\n", "ro.x=0\nro.y=1\r\n",
          "a=b androidboot.selinux=permissive", "level 9, memory 8"};
}

}  // namespace wexlo::fuzz
