/// Bundles of files as firmware: names, listings, sets, packages in packages, transfer lists.

#include "core/package_bench.hpp"
#include "firmware/file_names.hpp"
#include "firmware/transfer_list.hpp"

using namespace wexlo;
using namespace wexlo::test;

TEST_CASE("names: partition, compression and place in a set, in the styles of the field") {
  const auto expect = [](const char* path, const char* partition, int number, bool sure) {
    CAPTURE(path);
    const FileName name = read_file_name(path);
    CHECK(name.partition == partition);
    CHECK(name.number.has_value() == (number >= 0));
    if (name.number) CHECK(static_cast<int>(*name.number) == number);
    CHECK(name.number_is_sure == sure);
    CHECK(name.image);
  };
  expect("images/boot.img", "boot", -1, false);
  expect("boot.img.lz4", "boot", -1, false);
  expect("NON-HLOS.bin", "NON-HLOS", -1, false);
  expect("super.img_sparsechunk.3", "super", 3, true);
  expect("super.img_sparsechunk3", "super", 3, true);
  expect("super.img.part-0", "super", 0, true);
  expect("super-part-12.img", "super", 12, true);
  expect("system_sparsechunk.1.img", "system", 1, true);
  expect("super.img.2", "super", 2, true);
  expect("super_1.img", "super_1", 1, false);
  expect("boot (1).img", "boot__1_", -1, false);
  expect("../../evil.img", "evil", -1, false);
  expect("super_123.img", "super_123", 123, false);
  expect("super_20260905.img", "super_20260905", -1, false);  // a date
  CHECK(read_file_name("x.tar.md5").archive);
  CHECK(read_file_name("x.tar.gz").archive);
  CHECK(read_file_name("system.new.dat.br").packed == Compression::Brotli);
  CHECK_FALSE(read_file_name("readme").image);
}

TEST_CASE("package: images in a zip, stored and deflated, packed in any way") {
  const std::string boot = boot_image(), other = noise(70'000, 4);
  const auto firmware = open(zip({{"a/boot.img", boot, true},
                                  {"a/modem.img", other},
                                  {"a/dtbo.img.lz4", lz4_frame(other)},
                                  {"a/x.img.gz", gzip(other), true},
                                  {"readme", "text"}}));
  REQUIRE(firmware);
  CHECK((*firmware)->kind == "zip");
  CHECK(content(**firmware, "boot").value() == boot);
  for (const char* name : {"modem", "dtbo", "x"})
    CHECK(content(**firmware, name).value() == other);
  CHECK((*firmware)->find("readme") == nullptr);
}

TEST_CASE("package: zips, tars and packed ones inside each other, stored or not") {
  const std::string boot = boot_image();
  const std::string inner = zip({{"boot.img", boot, true}});
  for (const std::string& whole :
       {zip({{"f/image-x.zip", inner}}), zip({{"f/image-x.zip", inner, true}}),
        zip({{"AP.tar", tar({{"boot.img.lz4", lz4_frame(boot)}}), true}}),
        gzip(tar({{"inner.zip", inner}})),
        xz(zip({{"a.zip", zip({{"b.zip", inner, true}}), true}})), tar({{"boot.img", boot}}),
        zstd(SparseBytes().raw(padded(boot, 4096)).done())}) {
    const auto firmware = open(whole, "boot.bin");
    REQUIRE(firmware);
    CHECK(content(**firmware, "boot").value().substr(0, boot.size()) == boot);
  }
  std::string bomb = inner;
  for (int i = 0; i < 12; ++i)
    bomb = zip({{"next.zip", bomb, true}});
  CHECK(open(bomb).error().code == ErrorCode::LimitExceeded);
}

TEST_CASE("package: a damaged member is found by its CRC") {
  std::string bytes = zip({{"boot.img", noise(5000)}, {"dtbo.img", noise(3000, 2)}});
  bytes[bytes.find(noise(5000).substr(100, 20))] ^= 1;
  const auto firmware = open(bytes);
  REQUIRE(firmware);
  CHECK(content(**firmware, "boot").error().code == ErrorCode::DigestMismatch);
  const Opening opening;
  struct Nowhere final : ImageSink {
    Status resize(std::uint64_t) override { return {}; }
    Status write_at(std::uint64_t, View) override { return {}; }
    Status read_at(std::uint64_t, MutableView) override { return {}; }
  } nowhere;
  CHECK((*firmware)->find("dtbo")->content->read(nowhere, {}, {})->proof == "crc-32");
  CHECK((*firmware)->find("boot")->content->read(nowhere, {}, {}).error().code ==
        ErrorCode::DigestMismatch);
}

TEST_CASE("package: two files of one partition ask for a choice") {
  const auto firmware =
      open_set({{"new/boot.img", boot_image(1)}, {"old/boot.img", boot_image(2)}});
  REQUIRE(firmware);
  const auto bad = (*firmware)->choose("boot", "set");
  REQUIRE_FALSE(bad);
  CHECK(bad.error().code == ErrorCode::Ambiguous);
  CHECK(bad.error().found == "boot (new/boot.img), boot (old/boot.img)");
  CHECK(content(**firmware, "old/boot.img").value() == boot_image(2));
}

TEST_CASE("package: slots are found by the partition's name when one of them has bytes") {
  const auto firmware = open_set(
      {{"boot_a.img", boot_image()}, {"boot_b.img", boot_image(2)}, {"dtbo_a.img", noise(600)}});
  CHECK((*firmware)->choose("boot", "x").error().code == ErrorCode::Ambiguous);
  CHECK((*(*firmware)->choose("dtbo", "x"))->name == "dtbo_a");
}

TEST_CASE("package: listings in several dialects give names and digests") {
  const std::string image = noise(9000, 3), digest = hex_of(sha256(image)),
                    sha1_text = hex_of(sha1(image));
  const std::vector<std::pair<const char*, std::string>> listings{
      {"flash.xml",
       "<?xml version=\"1.0\"?><package><steps><step operation=\"flash\" partition=\"init_boot\" "
       "filename=\"7.bin\" SHA1=\"" +
           sha1_text + "\"/><step operation=\"erase\" partition=\"x\"/></steps></package>"},
      {"parts.xml",
       "<list><item><partition_name>init_boot</partition_name><file_name>7.bin</"
       "file_name><sha256>" +
           digest + "</sha256></item></list>"},
      {"layout.txt",
       "- partition_index: 3\n  partition_name: init_boot\n  file_name: 7.bin\n  is_download: "
       "true\n  sha256: " +
           digest + "\n"},
      {"table.csv", "partition,file,start,length\ninit_boot,7.bin,0x4000,0x8000\n"},
      {"program.xml",
       "<data><program SECTOR_SIZE_IN_BYTES=\"4096\" filename=\"7.bin\" label=\"init_boot_a\" "
       "start_sector=\"6\" num_partition_sectors=\"9\"/>"
       "<program SECTOR_SIZE_IN_BYTES=\"4096\" filename=\"7.bin\" label=\"init_boot_b\" "
       "start_sector=\"16\" num_partition_sectors=\"9\"/></data>"},
      {"write-images.sh", "#!/bin/sh\nfastboot flash init_boot 7.bin\n"},
      {"write.bat", "fastboot %* flash init_boot %~dp0\\7.bin || exit /B 1\r\n"},
      {"map.ini", "[images]\ninit_boot = 7.bin\n"},
  };
  for (const auto& [name, text] : listings) {
    CAPTURE(name);
    const auto firmware = open_set({{"7.bin", image}, {name, text}});
    REQUIRE(firmware);
    CHECK((*firmware)->partitions.size() == 1);
    CHECK(content(**firmware, "init_boot").value_or("") == image);
    // A file that is not what its listing says is refused, where the listing says it.
    const auto damaged = open_set({{"7.bin", noise(9000, 4)}, {name, text}});
    const bool promised = text.find(digest) != text.npos || text.find(sha1_text) != text.npos;
    CHECK(content(**damaged, "init_boot").has_value() == !promised);
  }
}

TEST_CASE("package: a digest list covers files that name themselves") {
  const std::string image = noise(9000, 3);
  const std::string list =
      hex_of(sha256(image)) + "  boot.img\n" + hex_of(sha256("x")) + " *dtbo.img\n";
  const auto firmware =
      open_set({{"boot.img", image}, {"dtbo.img", noise(700)}, {"SHA256SUMS", list}});
  REQUIRE(firmware);
  CHECK((*firmware)->find("boot")->sha256 == hex_of(sha256(image)));
  CHECK(content(**firmware, "boot"));
  const auto bad = content(**firmware, "dtbo");
  REQUIRE_FALSE(bad);
  CHECK(bad.error().message.find("SHA256SUMS") != std::string::npos);
}

TEST_CASE("package: one file with several partitions at places that a listing names") {
  const std::string dump = noise(40'000);
  const auto firmware = open_set({{"flash.raw", dump},
                                  {"map.txt",
                                   "boot flash.raw 0x1000 0x2000\nmisc flash.raw 0x3000 0x800\n"
                                   "logo flash.raw 0x4000 0x400\n"}});
  REQUIRE(firmware);
  CHECK(content(**firmware, "boot").value() == dump.substr(0x1000, 0x2000));
  CHECK(content(**firmware, "misc").value() == dump.substr(0x3000, 0x800));
}

TEST_CASE(
    "package: numbered sets are joined, sparse ones laid over each other, raw ones in order") {
  const std::string a = noise(4096, 1), b = noise(8192, 2), c = noise(4096, 3);
  const std::string one = SparseBytes().raw(a).skip(3).done(),
                    two = SparseBytes().skip(1).raw(b).skip(1).done(),
                    three = SparseBytes().skip(3).raw(c).done();
  for (const auto& names : {std::array{"super.img_sparsechunk.9", "super.img_sparsechunk.10",
                                       "super.img_sparsechunk.11"},
                            std::array{"super.img.part-0", "super.img.part-1", "super.img.part-2"},
                            std::array{"super_1.img", "super_2.img", "super_3.img"},
                            std::array{"super.0.img", "super.1.img", "super.2.img"}}) {
    CAPTURE(names[0]);
    const auto firmware = open_set({{names[2], three}, {names[0], one}, {names[1], two}});
    REQUIRE(firmware);
    CHECK(content(**firmware, "super").value_or("") == a + b + c);
    const auto gap = open_set({{names[0], one}, {names[2], three}});
    REQUIRE(gap);  // the others shall be there all the same
    CHECK((*gap)->notes.at(0).id.code == FindingCode::UnreadableFile);
    CHECK(content(**gap, "super").error().message.find("missing") != std::string::npos);
  }
  const auto raw = open_set({{"cust.img.part-0", a}, {"cust.img.part-1", b}});
  CHECK(content(**raw, "cust").value() == a + b);
  // Numbers alone join nothing that is not sparse.
  const auto names = open_set({{"logo_1.img", a}, {"logo_2.img", b}});
  CHECK(content(**names, "logo_2").value() == b);
  CHECK(content(**names, "logo_1").value() == a);
}

TEST_CASE("package: super among other images shows its logical partitions, over two devices too") {
  SuperBytes super;
  super.partitions = {{"system_a", {{8, 300}}}, {"odm_a", {{8, 0, 0, 1}}}};
  super.devices = {"super", "cust"};
  std::string bytes = super.done();
  bytes.replace(300 * 512, 4096, noise(4096, 5));
  const std::string cust = noise(4096, 6);
  const auto firmware = open(zip({{"super.img", SparseBytes().raw(bytes).done(), true},
                                  {"cust.img", cust, true},
                                  {"boot.img", boot_image()}}));
  REQUIRE(firmware);
  CHECK(content(**firmware, "system").value() == noise(4096, 5));
  CHECK(content(**firmware, "odm_a").value() == cust);
  CHECK((*firmware)->find("system_a")->inside == "super");
  CHECK(content(**firmware, "super").value() == bytes);
}

TEST_CASE("package: transfer lists, plain and packed, every version") {
  const std::string a = noise(2 * 4096, 1), b = noise(4096, 2);
  const std::string image = b + std::string(4096, '\0') + a + std::string(4096, '\0');
  for (const char* list : {"1\n3\nnew 4,2,4,0,1\nzero 2,4,5\n",
                           "4\n3\n0\n0\nerase 2,0,5\nnew 2,2,4\nnew 2,0,1\nzero 2,1,2\n"}) {
    const std::string data = a + b;
    const std::vector<std::pair<std::string, std::string>> forms{{".new.dat", data},
                                                                 {".new.dat.xz", xz(data)}};
    for (const auto& [end, packed] : forms) {
      const auto firmware = open(zip({{"system.transfer.list", list},
                                      {"system" + end, packed},
                                      {"system.patch.dat", ""},
                                      {"boot.img", boot_image()}}));
      REQUIRE(firmware);
      CHECK((*firmware)->kind == "ota-zip");
      CHECK(content(**firmware, "system").value() == image);
      CHECK(content(**firmware, "boot").value() == boot_image());
      const auto source = (*firmware)->find("system")->content->source({});
      REQUIRE(source);
      CHECK(text(read_all(**source, 1u << 20)->view()) == image);
    }
  }
  const auto with = [&](const std::string& list) {
    const auto firmware = open(zip({{"s.transfer.list", list}, {"s.new.dat", a}}));
    return firmware ? content(**firmware, "s") : Result<std::string>(fail(firmware.error()));
  };
  CHECK(with("1\n2\nnew 2,0,2\n").value() == a);
  CHECK(with("1\n2\nnew 2,0,3\n").error().code == ErrorCode::Truncated);
  CHECK(with("1\n2\nnew 2,0,1\n").error().code == ErrorCode::Corrupt);
  CHECK(with("3\n2\n0\n0\nnew 2,0,1\nnew 2,0,1\n").error().message.find("twice") !=
        std::string::npos);
  CHECK(with("4\n2\n0\n0\nbsdiff 0 5 " + std::string(40, 'a') + " " + std::string(40, 'b') +
             " 2,0,1 1 2,0,1\n")
            .error()
            .code == ErrorCode::Unsupported);
  for (const char* bad :
       {"5\n1\n0\n0\n", "1\nx\n", "1\n1\nnew 3,0,1,2\n", "1\n1\nnew 4,0,1\n", "1\n1\nnew 2,1,1\n",
        "1\n1\nfrobnicate\n", "1\n1\nnew 2,0,99999999999\n", ""})
    CHECK(with(bad).error().code == ErrorCode::BadValue);
}

TEST_CASE("package: every digest that is promised is held to, not the first alone") {
  const std::string boot = boot_image(), wrong(64, 'a');
  const std::string md5 = hex(digest(DigestKind::Md5, as_view(boot))), sha = hex_of(sha256(boot));
  const auto read = [&](const std::string& one, const std::string& two) {
    return content(**open_set({{"boot.img", boot},
                               {"md5sums.txt", one + "  boot.img\n"},
                               {"sha256sums.txt", two + "  boot.img\n"}}),
                   "boot");
  };
  CHECK(read(md5, sha));
  CHECK(read(md5, wrong).error().code == ErrorCode::DigestMismatch);
  CHECK(read(wrong.substr(0, 32), sha).error().code == ErrorCode::DigestMismatch);
}

TEST_CASE("package: files whose names say nothing are looked into, so many of them") {
  const auto with = [&](int others) {
    std::vector<Member> members;
    for (int i = 0; i < others; ++i)
      members.push_back({"f" + std::to_string(1000 + i), std::string(512, 'x')});
    members.push_back({"what", boot_image()});
    const auto firmware = open(zip(members));
    return firmware.has_value() && !(*firmware)->partitions.empty();
  };
  CHECK(with(299));
  CHECK_FALSE(with(300));
}
