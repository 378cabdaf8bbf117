/// Containers and what is inside them.

#include "support/containers.hpp"
#include "firmware/bsdiff.hpp"
#include "firmware/deflate_tokens.hpp"
#include "firmware/formats.hpp"
#include "firmware/imgdiff.hpp"
#include "firmware/listing.hpp"
#include "firmware/puffdiff.hpp"
#include "firmware/transfer_list.hpp"
#include "support/boot.hpp"
#include "support/packages.hpp"
#include "target.hpp"

namespace wexlo::fuzz {
namespace {

Context small() {
  Context out;
  out.decode_bound = 8u << 20;
  return out;
}

std::string boot_image() {
  return test::BootBytes{.version = 2, .page = 2048, .kernel = test::noise(100), .ramdisk = "r"}
      .done();
}

}  // namespace

/// Anything that can be given as firmware; every partition is read, and its head.
void container(View input) {
  // A build before it, for packages that start from one.
  static const auto base = [] {
    const std::string old = test::zip({{"s.img", test::noise(8192)}, {"boot.img", boot_image()}});
    auto opened = open_source(open_memory(Blob(to_bytes(old)), "old.zip"), {});
    return std::make_shared<const BaseImages>(std::move(*opened), "old");
  }();
  const Opening opening{.context = small(), .base = base};
  const auto firmware = open_source(open_memory(Blob(to_bytes(input)), "boot.img"), opening);
  if (!firmware) return;
  for (const PartitionFacts& one : (*firmware)->partitions) {
    (void)one.content->head(kProbeSize);
    const auto bytes = read_partition(one, 4u << 20, opening.context);
    if (bytes) must(bytes->size() == one.size);
    if (one.size > (4u << 20)) continue;
    const auto source = one.content->source(opening.context);
    if (!source || !bytes) continue;
    // Both ways of reading give the same.
    const auto again = read_all(**source, 4u << 20);
    must(again && equal(again->view(), bytes->view()));
  }
}

std::vector<std::string> container_seeds() {
  using namespace test;
  const std::string boot = boot_image(), block = noise(4096);
  SuperBytes super{.size = 96u << 10, .metadata_size = 1024};
  super.partitions = {{"system_a", {{8, 64}, {8, 0, 1}}}, {"vendor_a", {{8, 80}}}};
  SparseBytes sparse;
  sparse.raw(block).fill(2, "abcd").skip(1).crc(0);
  return {
      test::zip({{"boot.img", boot, true},
                 {"a.img.lz4", lz4_frame(block)},
                 {"list.xml", "<l><p partition=\"x\" filename=\"a.img.lz4\" md5=\"00\"/></l>"}}),
      tar({{"boot.img", boot},
           {"super.img.part-0", sparse.done()},
           {"super.img.part-1", sparse.done()}}),
      sparse.done(),
      super.done(),
      super.empty(),
      gpt_dump({{"boot_a", 40, 41}}, 512, 80),
      test::zip({{"s.transfer.list", "4\n2\n0\n0\nnew 2,1,2\nzero 2,0,1\n"}, {"s.new.dat", block}}),
      gzip(test::zip({{"in.zip", test::zip({{"boot.img", boot}}), true}})),
      xz(boot),
      bzip2(boot),
      zstd(boot),
      record_container({{.name = "BOOT", .data = boot}, {.name = "X", .data = block}}),
      DownloadBytes{.files = {{"B", "boot.img", boot},
                              {"", "c.xml", "<a><File><ID>B</ID><Block id=\"boot\"/></File></a>"}}}
          .done(),
      "MZ" + block + test::zip({{"boot.img", boot, false, false, "", true}}),
      test::zip({{"s.transfer.list",
                  "2\n2\n0\n0\nstash 7 2,0,1\nmove 2,1,2 1 - 7:2,0,1\nbsdiff 0 9 2,0,1 1 2,0,1\n"},
                 {"s.new.dat", ""},
                 {"s.patch.dat", "BSDIFF40x"}}),
      test::zip({{"a_1.img", block},
                 {"a_2.img", block},
                 {"p.xml",
                  "<d><program label=\"a\" filename=\"a_1.img\" start_sector=\"8\"/><program "
                  "label=\"a\" filename=\"a_2.img\" start_sector=\"20\" "
                  "num_partition_sectors=\"2\" file_sector_offset=\"1\"/></d>"}})};
}

/// First byte: what the rest is. Old bytes are always the same.
void patches(View input) {
  if (input.empty()) return;
  const auto kind = std::to_integer<unsigned>(input[0]) % 4;
  const View rest = input.subspan(1);
  static const std::string old = test::noise(4096);
  const WriteBytes nowhere = [](View) { return Status(); };
  const OldBytes bytes{.size = old.size(), .read = [](std::uint64_t at, MutableView out) {
                         must(at + out.size() <= old.size());
                         std::memcpy(out.data(), old.data() + at, out.size());
                         return Status();
                       }};
  if (kind == 0) {
    (void)apply_bsdiff(rest, bytes, 1u << 20, nowhere);
  } else if (kind == 3) {
    (void)apply_image_patch(rest, bytes, 1u << 20, nowhere);
  } else if (kind == 1) {
    (void)apply_puffdiff(rest, as_view(old), 1u << 20, nowhere);
  } else {
    // A stream that is spelled out comes back, bit for bit. One that spells the longest match in
    // two ways comes back in the usual one, and says the same.
    const auto tokens = tokens_of_deflate(rest, {0, rest.size() * 8}, 1u << 20);
    if (!tokens) return;
    Bytes back;
    BitWriter bits(back);
    must(deflate_of_tokens(*tokens, bits).has_value());
    const std::uint64_t size = bits.size();
    const std::size_t whole = static_cast<std::size_t>(size / 8);
    if (whole <= rest.size() && equal(View(back).first(whole), rest.first(whole))) return;
    must(as_text(*tokens).contains("\xff\x80"));  // docs/formats/patches.md: a length of 258
    bits.flush();
    const auto again = tokens_of_deflate(back, {0, size}, 1u << 20);
    must(again && equal(*again, *tokens));
  }
}

std::vector<std::string> patches_seeds() {
  const std::string before = test::noise(4096), after = test::noise(5000, 2);
  const std::string packed = test::gzip("words and words and words " + test::noise(300));
  return {
      "0" + test::bsdiff(before, after),
      "0" + test::bsdiff(before, after, std::string("\0\1\0", 3)),
      "1PUF1" + test::be32(4) + test::proto_number(1, 1) + test::proto_number(4, 0) + "BSDIFF40",
      "2" + packed.substr(10, packed.size() - 18),
      "3IMGDIFF2" + test::le32(2) + test::le32(0) + test::le64(0) + test::le64(4096) +
          test::le64(12 + 28 + 11) + test::le32(3) + test::le32(3) + "end" +
          test::bsdiff(before, after)};
}

void listing(View input) {
  const auto is_file = [](std::string_view name) { return name.ends_with(".img"); };
  for (const ListingRow& row : wexlo::read_listing(as_text(input), "list.xml", is_file).rows)
    must(is_file(row.file) && (row.partition.empty() || check_partition_name(row.partition)));
  (void)read_transfer_list(as_text(input), "list");
}

std::vector<std::string> listing_seeds() {
  return {
      "<l><step operation=\"flash\" partition=\"boot\" filename=\"boot.img\" "
      "MD5=\"0123456789abcdef0123456789abcdef\"/></l>",
      "- partition_name: boot\n  file_name: boot.img\n  start: 0x1000\n  length: 4K\n",
      "boot,boot.img,0x1000,0x2000\n", "0123456789abcdef0123456789abcdef *boot.img\n",
      "4\n3\n0\n0\nnew 4,0,1,2,3\nzero 2,1,2\n"};
}

}  // namespace wexlo::fuzz
