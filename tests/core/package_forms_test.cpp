/// Tars, single images, and what a package's texts say of the build.

#include "archive/tar.hpp"
#include "core/package_bench.hpp"

using namespace wexlo;
using namespace wexlo::test;

TEST_CASE(
    "tar: members are windows; links and folders are passed over; hostile names are refused") {
  const std::string bytes = tar_member("d", "", '5') + tar_member("boot.img", boot_image()) +
                            tar_member("l", "", '2') + std::string(1024, '\0');
  const auto opened = open_tar(open_memory(blob(bytes), "x.tar"), {});
  REQUIRE(opened);
  REQUIRE(opened->bundle.items.size() == 1);
  CHECK(text(read_all(**opened->bundle.items[0].open({}), 1u << 20)->view()) == boot_image());
  for (const char* name : {"/etc/boot.img", "../boot.img", "a/../../boot.img"})
    CHECK(open(tar({{name, boot_image()}}), "x.tar").error().code == ErrorCode::UnsafePath);
  CHECK(open(zip({{"../boot.img", boot_image()}})).error().code == ErrorCode::UnsafePath);
  for (std::size_t size = 513; size < bytes.size() - 1536; size += 501)
    CHECK_FALSE(open_tar(open_memory(blob(bytes.substr(0, size)), "x.tar"), {}));
}

TEST_CASE("tar: the sum line behind it") {
  const TempDir dir;
  const std::string bytes = tar({{"boot.img", boot_image()}});
  const std::string sum = hex(digest(DigestKind::Md5, blob(bytes)));
  const auto line_of = [](const std::string& whole) {
    return find_sum_line(*open_memory(blob(whole), "x"));
  };
  for (const std::string end : {"  x.tar\n", "  x.tar", " *x.tar\r\n"}) {
    const std::string whole = bytes + sum + end;
    const auto line = line_of(whole);
    REQUIRE(*line);
    CHECK((*line)->covers == bytes.size());
    CHECK(check_sum_line(*open_memory(blob(whole), "x"), **line, {}));
    std::string bad = whole;
    bad[700] ^= 1;
    CHECK(check_sum_line(*open_memory(blob(bad), "x"), **line, {}).error().code ==
          ErrorCode::DigestMismatch);
  }
  CHECK_FALSE(*line_of(bytes));
  CHECK_FALSE(*line_of(bytes + "no sum  x.tar\n"));
  CHECK_FALSE(*line_of(""));
  const auto named = open(bytes, "x.tar.md5");
  REQUIRE(named);
  CHECK((*named)->notes.at(0).id.code == FindingCode::NoSumLine);
  CHECK((*open(bytes + sum + "  x.tar\n", "x.tar.md5"))->partitions[0].sum->line.md5 == sum);
}

TEST_CASE("package: what the texts say of the build") {
  const auto factory = open_set({{"android-info.txt",
                                  "require board=vernier\r\nrequire "
                                  "version-baseband=K-1|K-2\nrequire version-bootloader=B-7\n"},
                                 {"boot.img", boot_image()}});
  CHECK((*factory)->build.device == "vernier");
  CHECK((*factory)->build.baseband == "K-1|K-2");
  CHECK((*factory)->build.bootloader == "B-7");
  CHECK((*factory)->build.demands.size() == 3);
  const auto script = open_set({{"META-INF/com/google/android/updater-script",
                                 "getprop(\"ro.product.device\") == \"plumbline\" || abort();"},
                                {"boot.img", boot_image()}});
  CHECK((*script)->build.device == "plumbline");
  const auto listed =
      open_set({{"info.xml",
                 "<p><phone_model model=\"gnomon\"/><region>EU</region><software_version "
                 "version=\"KV3A.1\"/><step partition=\"boot\" filename=\"boot.img\"/></p>"},
                {"boot.img", boot_image()}});
  CHECK((*listed)->build.device == "gnomon");
  CHECK((*listed)->build.region == "EU");
  CHECK((*listed)->build.incremental == "KV3A.1");
}

TEST_CASE("formats: single images are firmware of one partition, named by file or kind") {
  const auto named = open(boot_image(), "recovery_boot.img");
  CHECK((*named)->single);
  CHECK((*named)->partitions[0].name == "recovery_boot");
  CHECK((*open(boot_image(), "dump-17.bin"))->partitions[0].name == "boot");
  CHECK((*open(gzip(boot_image()), "boot.img.gz"))->layers.size() == 2);
  CHECK(open("nothing known", "x").error().code == ErrorCode::BadMagic);
  CHECK(open("", "x").error().code == ErrorCode::BadMagic);
}

TEST_CASE("formats: a FAT file system has its first table behind reserved sectors") {
  std::string sector(512, '\0');
  sector.replace(0, 3, "\xeb\x3c\x90");
  sector.replace(11, 6, std::string("\x00\x02\x04\x01\x00\x02", 6));
  sector[21] = '\xf8';
  sector.replace(510, 2, "\x55\xaa");
  const auto kind = [&] {
    const Format* format = find_format(as_view(sector));
    return format == nullptr ? std::string() : std::string(format->kind);
  };
  const std::string fat = kind();
  CHECK(fat == "fat");
  sector[14] = 0;  // no reserved sectors: it could not even hold itself
  CHECK(kind() != fat);
}
