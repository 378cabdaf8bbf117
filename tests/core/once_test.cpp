/// Work that is done once: what an image decodes to, images that are read ahead; and memory that is
/// given back.

#include <barrier>
#include <filesystem>
#include <thread>

#include "base/late_library.hpp"
#include "base/source.hpp"
#include "firmware/content.hpp"
#include "firmware/stock_images.hpp"
#include "support/patching.hpp"
#include "support/payload.hpp"
#include "support/places.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

/// A folder with the images of a boot chain.
struct Chain {
  TempDir dir;
  FirmwarePtr firmware;

  explicit Chain(const std::string& boot = BootBytes{.kernel = arm64_kernel("6.1.0-x")}.done()) {
    write(dir / "init_boot.img", BootBytes{.ramdisk = test::gzip(first_ramdisk())}.done());
    write(dir / "boot.img", boot);
    write(dir / "vendor_boot.img", VendorBootBytes{.ramdisk = first_ramdisk()}.done());
    firmware = value_of(open_firmware(dir.path().string()));
  }
};

}  // namespace

TEST_CASE("decoded: ramdisks and kernel are decoded once for all copies of an image") {
  const auto image = load(BootBytes{.version = 2,
                                    .page = 2048,
                                    .kernel = test::gzip(arm64_kernel("6.1.9-korvale")),
                                    .ramdisk = test::gzip(first_ramdisk())}
                              .done());
  const LoadedImage copy = image;
  const auto first = value_of(image.decoded->ramdisks({}));
  REQUIRE(first->size() == 1);
  CHECK(at(*first->front().ramdisk, "init") != "(none)");
  CHECK(value_of(copy.decoded->ramdisks({})) == first);
  const auto kernel = value_of(image.decoded->kernel({}));
  CHECK(kernel->release == "6.1.9-korvale");
  CHECK(value_of(copy.decoded->kernel({})) == kernel);
  copy.decoded->let_go();
  const auto again = value_of(image.decoded->ramdisks({}));
  CHECK(again != first);  // decoded anew, and who still has the first may go on with it
  CHECK(again->front().ramdisk->segments.size() == first->front().ramdisk->segments.size());
}

TEST_CASE("decoded: two that ask at the same time get one decoding, not one each") {
  constexpr std::size_t kSize = 8u << 20;
  CpioBytes archive;
  archive.file("init", "#!", 0100750).file("data", std::string(kSize, 'x'));
  const std::string bytes = BootBytes{.ramdisk = test::gzip(archive.done())}.done();
  // Room for one decoding and no more: a second one beside it would be refused.
  std::size_t room = kSize / 2;
  const auto is_enough = [&] {
    const auto read = load(bytes).decoded->ramdisks({.held = std::make_shared<HeldBytes>(room)});
    return read && (*read)->front().ramdisk;
  };
  while (!is_enough())
    room += kSize / 4;
  const auto image = load(bytes);
  const Context context{.held = std::make_shared<HeldBytes>(room)};
  std::vector<ReadRamdisks> found(4);
  {
    std::barrier start(static_cast<std::ptrdiff_t>(found.size()));
    std::vector<std::jthread> threads;
    for (ReadRamdisks& one : found)
      threads.emplace_back([&] {
        start.arrive_and_wait();
        if (auto read = image.decoded->ramdisks(context)) one = *read;
      });
  }
  for (const ReadRamdisks& one : found) {
    REQUIRE(one);
    CHECK(one == found.front());
    CHECK(one->front().ramdisk);
  }
}

TEST_CASE(
    "decoded: a ramdisk that does not read is told in its place, and a stop is no such thing") {
  std::string packed = test::gzip(first_ramdisk());
  packed.resize(packed.size() / 2);
  const auto image = load(BootBytes{.ramdisk = packed}.done());
  const auto read = value_of(image.decoded->ramdisks({}));
  REQUIRE(read->size() == 1);
  CHECK_FALSE(read->front().ramdisk);
  REQUIRE(read->front().trouble);
  CHECK(read->front().trouble->offset >= 4096);  // in the image, not in the ramdisk
  CHECK_FALSE(value_of(image.decoded->kernel({})));

  std::stop_source stop;
  stop.request_stop();
  const auto other = load(BootBytes{.ramdisk = test::gzip(first_ramdisk())}.done());
  const auto stopped = other.decoded->ramdisks({.stop = stop.get_token()});
  REQUIRE_FALSE(stopped);
  CHECK(stopped.error().code == ErrorCode::Interrupted);
  CHECK(value_of(other.decoded->ramdisks({}))->front().ramdisk);
}

TEST_CASE("stock images: what is read ahead is what get reads, whatever the number of jobs") {
  const Chain chain;
  for (const unsigned jobs : {1u, 2u, 4u}) {
    CAPTURE(jobs);
    const Context context{.jobs = jobs};
    StockImages ahead(*chain.firmware, "chain", nullptr), plain(*chain.firmware, "chain", nullptr);
    ahead.read_ahead({"init_boot", "boot", "vendor_boot", "recovery", "boot"}, context);
    CHECK(ahead.read().empty());  // what nobody asked for does not show
    for (const char* name : {"vendor_boot", "init_boot", "boot"}) {
      const LoadedImage* const one = value_of(ahead.get(name, context));
      REQUIRE(one != nullptr);
      check_same(one->bytes.view(), value_of(plain.get(name, context))->bytes.view());
      CHECK(value_of(ahead.get(name, context)) == one);
      CHECK(ahead.sha256(name) == plain.sha256(name));
    }
    CHECK(value_of(ahead.get("recovery", context)) == nullptr);
  }
}

TEST_CASE(
    "stock images: what fails while it is read ahead is told by get, and only for its image") {
  const Chain chain("ANDROID!" + std::string(8, '\xff'));
  const Context context{.jobs = 2};
  StockImages stock(*chain.firmware, "chain", nullptr);
  stock.read_ahead({"boot", "init_boot"}, context);
  CHECK(value_of(stock.get("init_boot", context)) != nullptr);
  const auto boot = stock.get("boot", context);
  StockImages plain(*chain.firmware, "chain", nullptr);
  const auto same = plain.get("boot", context);
  REQUIRE((!boot && !same));
  CHECK(boot.error().code == same.error().code);
  CHECK(describe(boot.error()) == describe(same.error()));
}

TEST_CASE(
    "stock images: a stop reaches what is read ahead, and who drops all of it need not wait") {
  const Chain chain;
  std::stop_source stop;
  const Context context{.jobs = 2, .stop = stop.get_token()};
  StockImages stock(*chain.firmware, "chain", nullptr);
  stock.read_ahead({"init_boot", "boot", "vendor_boot"}, context);
  stop.request_stop();
  const auto one = stock.get("vendor_boot", context);
  REQUIRE_FALSE(one);
  CHECK(one.error().code == ErrorCode::Interrupted);
  StockImages dropped(*chain.firmware, "chain", nullptr);
  dropped.read_ahead({"init_boot", "boot", "vendor_boot"}, {.jobs = 3});
}

TEST_CASE("memory: zero pages that are given back read as zeros, and all else stays") {
  for (const std::size_t shift : {std::size_t{0}, std::size_t{1}, std::size_t{70000}}) {
    std::string bytes(3u << 20, '\0');
    bytes.replace(shift, 100000, noise(100000));
    bytes[(1u << 20) + shift] = 'x';
    bytes[bytes.size() - 1 - shift] = 'y';
    const Blob given = blob(bytes);
    give_back_zeros(given);
    check_same(given.view(), as_view(bytes));
    const Blob part = given.part(shift + 3, given.size() - shift - 3);  // at any address
    give_back_zeros(part);
    check_same(given.view(), as_view(bytes));
  }
  // A single byte, first or last of a page, keeps it.
  for (const std::size_t in_page : {std::size_t{0}, std::size_t{65535}}) {
    RawBuffer buffer;
    buffer.resize_zeroed(3u << 20);
    const auto address = reinterpret_cast<std::uintptr_t>(buffer.view().data());
    const auto at = static_cast<std::size_t>(align_up(address, 65536) - address) + 3 * 65536;
    buffer.view()[at + in_page] = std::byte{7};
    const Blob bytes = buffer.release();
    give_back_zeros(bytes);
    CHECK(bytes.view()[at + in_page] == std::byte{7});
  }
  const Blob small = blob(std::string(100, '\0'));
  give_back_zeros(small);
  CHECK(all_bytes(small.view(), std::byte{0}));
  give_back_zeros(Blob());
}

TEST_CASE("memory: an image that is grown, shrunk and grown again has zeros where none wrote") {
  MemorySink sink;
  REQUIRE(sink.resize(8));
  REQUIRE(sink.write_at(2, as_view("abcdef")));
  REQUIRE(sink.resize(4));
  REQUIRE(sink.resize(7));
  Bytes two(2);
  REQUIRE(sink.read_at(2, two));
  CHECK(text(two) == "ab");
  CHECK(text(sink.take().view()) == std::string("\0\0ab\0\0\0", 7));
}

TEST_CASE(
    "late library: what is not installed is told with its name, and so is a missing function") {
  LateLibrary none("libkorvale-not-there.so.9");
  CHECK((none.take<void (*)()>("anything") == nullptr));
  REQUIRE_FALSE(none.status());
  CHECK(none.status().error().code == ErrorCode::Unsupported);
  CHECK(none.status().error().message.contains("libkorvale-not-there.so.9"));

  LateLibrary there("libz.so.1");
  CHECK((there.take<const char* (*)()>("zlibVersion")() != nullptr));
  CHECK(there.status());
  CHECK((there.take<void (*)()>("korvale_not_there") == nullptr));
  REQUIRE_FALSE(there.status());
  CHECK(there.status().error().found.contains("korvale_not_there"));
}
