/// Folders on the way to an output.

#include <doctest/doctest.h>

#include "base/made_folders.hpp"
#include "base/output.hpp"
#include "support/check.hpp"
#include "support/run.hpp"

using namespace wexlo;
using namespace wexlo::test;
namespace fs = std::filesystem;

TEST_CASE("made folders: missing ones are made, and go again when nothing came") {
  const TempDir dir;
  {
    const auto made = MadeFolders::make(dir / "a/b/c");
    REQUIRE(made);
    CHECK(fs::is_directory(dir / "a/b/c"));
  }
  CHECK_FALSE(fs::exists(dir / "a"));
}

TEST_CASE("made folders: what was there stays, and so does what is not empty") {
  const TempDir dir;
  fs::create_directory(dir / "a");
  {
    auto made = MadeFolders::make(dir / "a/b/c");
    REQUIRE(made);
    write(dir / "a/b/mine.txt", "x");
  }
  CHECK(fs::exists(dir / "a/b/mine.txt"));
  CHECK_FALSE(fs::exists(dir / "a/b/c"));
  {
    auto made = MadeFolders::make(dir / "a/k");
    REQUIRE(made);
    made->keep();
  }
  CHECK(fs::is_directory(dir / "a/k"));
}

TEST_CASE("made folders: a file in the way is named, wherever it stands") {
  const TempDir dir;
  write(dir / "file", "x");
  for (const char* below : {"file", "file/a", "file/a/b"}) {
    const auto made = MadeFolders::make(dir / below);
    REQUIRE_FALSE(made);
    CHECK(made.error().code == ErrorCode::Exists);
    CHECK(made.error().file == (dir / "file").string());
  }
}

TEST_CASE("outputs: a file and a folder make what is missing above them, or leave nothing") {
  const TempDir dir;
  {
    auto file = OutputFile::create(dir / "new/below/x.img", Overwrite::Refuse);
    REQUIRE(file);
    CHECK(fs::is_directory(dir / "new/below"));
  }
  CHECK_FALSE(fs::exists(dir / "new"));
  CHECK(write_file(dir / "new/below/x.img", as_view("abc"), Overwrite::Refuse));
  CHECK(read(dir / "new/below/x.img") == "abc");
  {
    auto folder = OutputFolder::create(dir / "other/kit", Overwrite::Refuse, "kit.json");
    REQUIRE(folder);
  }
  CHECK_FALSE(fs::exists(dir / "other"));
  {
    auto folder = OutputFolder::create(dir / "other/kit", Overwrite::Refuse, "kit.json");
    REQUIRE(folder);
    CHECK(folder->commit());
  }
  CHECK(fs::is_directory(dir / "other/kit"));
}
