#include "job/batch.hpp"

#include <array>
#include <atomic>
#include <thread>

#include "firmware/content.hpp"
#include "support/check.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

struct Tray {
  TempDir dir;
  Result<std::vector<TrayJob>> read(const std::string& text) const {
    test::write(dir / "tray.toml", text);
    return read_tray(dir / "tray.toml");
  }
  [[nodiscard]] std::string path(const std::string& name) const { return (dir / name).string(); }
};

}  // namespace

TEST_CASE("tray: one job is one kit; paths count from the tray's own folder") {
  const Tray tray;
  const auto jobs = value_of(tray.read(
      "format = 1\n[[job]]\nfirmware = \"fw/x.zip\"\nrecipes = [\"r.toml\", \"@bundled\"]\n"
      "kit = \"out/kit\"\nset = { a = \"1\" }\nwith = { recovery = \"rec.img\" }\ninstall = "
      "\"s.zip\"\n"
      "accept = [\"build\"]\nslots = \"both\"\nwipe = true\nkey = \"k.pem\"\n"));
  REQUIRE(jobs.size() == 1);
  const TrayJob& job = jobs.front();
  CHECK(job.wish.firmware == tray.path("fw/x.zip"));
  CHECK(job.wish.recipes == std::vector<std::string>{tray.path("r.toml"), "@bundled"});
  CHECK(job.kit == tray.path("out/kit"));
  CHECK(job.wish.settings.at("a") == "1");
  REQUIRE(job.wish.given.size() == 2);
  CHECK(job.wish.given[0].partition == "recovery");
  CHECK(job.wish.given[0].file == tray.path("rec.img"));
  CHECK(job.wish.given[1].partition.empty());
  CHECK(job.wish.accept == std::vector<std::string>{"build"});
  CHECK(job.wish.slots == Slots::Both);
  CHECK(job.wish.wipe);
  CHECK(job.wish.key == tray.path("k.pem"));
  CHECK_FALSE(job.only_fitting);
  CHECK(job.line == 2);
}

TEST_CASE("tray: every firmware, every set of recipes, every phone") {
  const Tray tray;
  const auto jobs = value_of(tray.read(
      "[[job]]\nfirmware = [\"a.zip\", \"https://x.invalid/b.zip\"]\nrecipes = [[\"r.toml\"], "
      "[\"r.toml\", \"@s\"]]\nsheets = [\"one.toml\", \"two.toml\"]\n"
      "kit = \"{sheet}/{firmware}-{recipes}\"\n"));
  REQUIRE(jobs.size() == 8);
  CHECK(jobs[0].kit == tray.path("one/a-r"));
  CHECK(jobs[1].kit == tray.path("one/a-r+s"));
  CHECK(jobs[2].kit == tray.path("one/b-r"));
  CHECK(jobs[7].kit == tray.path("two/b-r+s"));
  CHECK(jobs[2].wish.firmware == "https://x.invalid/b.zip");
  CHECK(jobs[7].wish.sheet == tray.path("two.toml"));
}

TEST_CASE("tray: two jobs may not make one kit, unless only one of them can be for the phone") {
  const Tray tray;
  const auto twice = tray.read(
      "[[job]]\nfirmware = [\"a\", \"b\"]\nrecipes = \"r\"\nsheets = \"s.toml\"\nkit = "
      "\"{sheet}\"\n");
  REQUIRE_FALSE(twice);
  CHECK(twice.error().code == ErrorCode::Usage);
  CHECK(
      tray.read("[[job]]\nfirmware = [\"a\", \"b\"]\nrecipes = \"r\"\nsheets = \"s.toml\"\n"
                "pair = \"fitting\"\nkit = \"{sheet}\"\n"));
  CHECK_FALSE(
      tray.read("[[job]]\nfirmware = \"a\"\nstock = true\nkit = \"k\"\n"
                "[[job]]\nfirmware = \"b\"\nstock = true\nkit = \"./k\"\n"));
}

TEST_CASE("tray: mistakes are told with their line") {
  const Tray tray;
  struct Case {
    const char *text, *line;
  };
  for (const Case& one :
       {Case{"", ""}, Case{"job = 3\n", ""}, Case{"jobs = []\n[[job]]\n", "line 1"},
        Case{"[[job]]\nfirmware = \"a\"\nkit = \"k\"\nfirmwares = \"b\"\n", "line 4"},
        Case{"[[job]]\nfirmware = 3\nkit = \"k\"\n", "line 2"},
        Case{"[[job]]\nfirmware = [3]\nkit = \"k\"\n", "line 2"},
        Case{"[[job]]\nkit = \"k\"\n", "line 1"}, Case{"[[job]]\nfirmware = \"a\"\n", "line 1"},
        Case{"[[job]]\nfirmware = \"a\"\nkit = \"k\"\npair = \"some\"\n", "line 4"},
        Case{"[[job]]\nfirmware = \"a\"\nkit = \"k\"\npair = \"fitting\"\n", "line 1"},
        Case{"[[job]]\nfirmware = \"a\"\nkit = \"k\"\nslots = \"all\"\n", "line 4"},
        Case{"[[job]]\nfirmware = \"a\"\nkit = \"k\"\nset = { a = 1 }\n", "line 4"}}) {
    CAPTURE(one.text);
    const auto got = tray.read(one.text);
    REQUIRE_FALSE(got);
    CHECK(got.error().code == ErrorCode::BadValue);
    CHECK(describe(got.error()).find(one.line) != std::string::npos);
  }
  CHECK(tray.read("format = 2\n").error().code == ErrorCode::Unsupported);
  CHECK(read_tray(tray.dir / "none.toml").error().code == ErrorCode::NotFound);
}

TEST_CASE("tray: a job that fails keeps no other from being done, and is told") {
  const Tray tray;
  const auto jobs =
      value_of(tray.read("[[job]]\nfirmware = \"none.zip\"\nstock = true\nkit = \"a\"\n"
                         "[[job]]\nfirmware = \"none.zip\"\nkit = \"b\"\n"));
  const auto rows = value_of(run_tray(jobs, {}, {.jobs = 2}));
  REQUIRE(rows.size() == 2);
  CHECK(rows[0].outcome == TrayOutcome::Failed);
  CHECK(rows[0].error->code == ErrorCode::NotFound);
  CHECK(rows[1].error->code == ErrorCode::Usage);
  CHECK(tray.dir.names() == std::vector<std::string>{"tray.toml"});
}

TEST_CASE("tray: once it is stopped, it is stopped") {
  const Tray tray;
  const auto jobs =
      value_of(tray.read("[[job]]\nfirmware = \"none.zip\"\nstock = true\nkit = \"a\"\n"));
  std::stop_source source;
  source.request_stop();
  Context context{.jobs = 2};
  context.stop = source.get_token();
  CHECK(run_tray(jobs, {}, context).error().code == ErrorCode::Interrupted);
}

TEST_CASE("image cache: kept by digest, found by the package that named it, bounded") {
  const TempDir dir;
  test::write(dir / "fw.zip", "package");
  const std::string firmware = (dir / "fw.zip").string();
  ImageCache cache(dir / "cache", 3000);
  const PartitionFacts promised{
      .name = "boot", .size = 1000, .sha256 = hex_of(sha256(noise(1000)))};
  const PartitionFacts silent{.name = "dtbo", .size = 1000};
  CHECK_FALSE(cache.find(promised, firmware));
  cache.keep(promised, firmware, blob(noise(1000)));
  cache.keep(silent, firmware, blob(noise(1000, 2)));
  CHECK(text(cache.find(promised, firmware)->view()) == noise(1000));
  CHECK(text(cache.find(silent, firmware)->view()) == noise(1000, 2));
  CHECK(cache.hits() == 2);
  // By content: another package that promises the same needs nothing kept of its own.
  CHECK(cache.find(promised, (dir / "other.zip").string()));
  CHECK_FALSE(cache.find(silent, (dir / "other.zip").string()));
  // Another package under the same name is another package.
  test::write(dir / "fw.zip", "package, newer");
  CHECK_FALSE(cache.find(silent, firmware));
}

TEST_CASE("image cache: what was changed on the disk is not believed; the oldest go first") {
  const TempDir dir;
  ImageCache cache(dir / "cache", 2500);
  std::vector<PartitionFacts> all;
  for (unsigned i = 1; i <= 3; ++i) {
    all.push_back({.name = "p", .size = 1000, .sha256 = hex_of(sha256(noise(1000, i)))});
    cache.keep(all.back(), "x", blob(noise(1000, i)));
    std::filesystem::last_write_time(
        dir / ("cache/images/" + all.back().sha256),
        std::filesystem::file_time_type::clock::now() - std::chrono::hours(10 - i));
  }
  // The third was kept when only two have room.
  int found = 0;
  for (const PartitionFacts& one : all)
    found += cache.find(one, "x") ? 1 : 0;
  CHECK(found == 2);
  CHECK(cache.find(all[2], "x"));
  test::write(dir / ("cache/images/" + all[2].sha256), noise(1000, 9));
  CHECK_FALSE(cache.find(all[2], "x"));
}

TEST_CASE("image cache: what two ask for at once is taken out once; notes go with their images") {
  const TempDir dir;
  test::write(dir / "fw.zip", "package");
  const std::string firmware = (dir / "fw.zip").string();
  /// Slow enough for the other to come, and counting.
  class Slow final : public Source {
   public:
    explicit Slow(std::atomic<int>& reads) : Source("slow"), reads_(reads) {}
    std::uint64_t size() const override { return 1000; }
    Status read_at(std::uint64_t offset, MutableView out) const override {
      if (offset == 0) ++reads_;
      std::this_thread::sleep_for(std::chrono::milliseconds(50));
      const std::string bytes = noise(1000);
      std::ranges::copy(as_view(bytes).subspan(offset, out.size()), out.begin());
      return {};
    }

   private:
    std::atomic<int>& reads_;
  };
  std::atomic<int> reads = 0;
  const auto cache = std::make_shared<ImageCache>(dir / "cache", 1500);
  const PartitionFacts boot{
      .name = "boot", .size = 1000, .content = content_of(std::make_shared<Slow>(reads))};
  const auto take = [&] {
    return text(value_of(read_cached(cache, boot, firmware, 4000, {})).view()) == noise(1000);
  };
  std::array<bool, 3> good{};
  {
    std::vector<std::jthread> all;
    for (bool& one : good)
      all.emplace_back([&] { one = take(); });
  }
  CHECK(good == std::array{true, true, true});
  CHECK(reads == 1);
  CHECK(cache->hits() == 2);
  const auto notes = [&] {
    return std::distance(std::filesystem::directory_iterator(dir / "cache/known"), {});
  };
  CHECK(notes() == 1);
  cache->keep({.name = "dtbo", .size = 1200}, firmware, blob(noise(1200, 2)));
  CHECK(notes() == 1);
}

TEST_CASE("tray: as many kits as are taken, and one more") {
  const Tray tray;
  const auto names = [](int count) {
    std::string out;
    for (int i = 0; i < count; ++i)
      out += "\"" + std::to_string(i) + "\", ";
    return "[" + out + "]";
  };
  const auto job = [&](int firmwares) {
    return "[[job]]\nfirmware = " + names(firmwares) + "\nsheets = " + names(100) +
           "\nstock = true\nkit = \"{firmware}-{sheet}\"\n";
  };
  CHECK(value_of(tray.read(job(100))).size() == 10'000);
  CHECK_FALSE(tray.read(job(101)));
}
