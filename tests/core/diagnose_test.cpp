/// Broken phones, each with its true cause: it has to rank first, or second.

#include <set>

#include "support/broken_phone.hpp"
#include "support/places.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

const std::string kBuildA = "korvale/gnomon/gnomon:16/KV3A.1/1:user/release-keys",
                  kBuildSibling = "korvale/gnomon_eu/gnomon:16/KV3A.1/1:user/release-keys",
                  kBuildOlder = "korvale/gnomon/gnomon:16/KV3A.0/0:user/release-keys";

BrokenPhone broken(const std::string& name, Cause cause, Symptom symptom) {
  BrokenPhone out{.name = name, .cause = cause, .symptom = symptom};
  out.now = patched();
  out.now->flags = 3;
  out.written = {"init_boot", "vbmeta"};
  return out;
}

/// The same with the first ramdisk made of these entries.
BrokenPhone with_init(const std::string& name, Cause cause, Symptom symptom, CpioBytes generic) {
  BrokenPhone out = broken(name, cause, symptom);
  put_journal(generic);
  out.now->parts.generic = std::move(generic);
  return out;
}

StockPhone one_slot() {
  StockPhone out;
  out.slotted = false;
  out.more["recovery"] = recovery_image(recovery_entries());
  return out;
}

/// The vendor's ramdisk with another mount table.
void set_fstab(BrokenPhone& phone, const std::string& fstab) {
  phone.now->parts.fstab = fstab;
  phone.written.emplace_back("vendor_boot");
}

std::string kernel_packed(bool size_word) {
  return lz4_legacy(arm64_kernel("5.10.157-android13-4-00001") + noise(4000), size_word);
}

/// The causes that the twenty do not have.
std::vector<BrokenPhone> other_causes() {
  std::vector<BrokenPhone> out;

  BrokenPhone image = broken("a table of device trees where init_boot was due", Cause::WrongImage,
                             Symptom::StaysInBootloader);
  image.now->parts.extra["init_boot"] =
      TableBytes{.blobs = {device_tree("Tarn 3", "korvale,gnomon")}}.done();
  out.push_back(image);

  BrokenPhone build = broken("init_boot of an older build", Cause::OtherBuild, Symptom::LoopsLater);
  build.stock.fingerprint = kBuildA;
  build.now->fingerprint = kBuildOlder;
  out.push_back(build);

  BrokenPhone tree =
      broken("a system that its hash tree is not of", Cause::HashTree, Symptom::LoopsAtOnce);
  tree.now->flags = 0;
  tree.seen =
      "[    1.2] device-mapper: verity: 253:4: data block 17 is corrupted\n"
      "[    1.3] init: Failed to mount /system\n";
  out.push_back(tree);

  out.push_back(
      broken("an update over what was changed", Cause::ChangedForUpdate, Symptom::RefusesUpdate));

  BrokenPhone joint{
      .name = "a folder: gzip behind lz4", .cause = Cause::RamdiskJoint, .with_kit = false};
  joint.now = patched();
  CpioBytes generic = joint.now->parts.generic;
  joint.now->parts.init.ramdisk = gzip(generic.done());
  joint.written = {"init_boot"};
  out.push_back(joint);

  BrokenPhone half = broken("a write that failed", Cause::HalfWritten, Symptom::StaysInBootloader);
  half.steps = {{"write-init_boot", StepOutcome::Accepted},
                {"write-vbmeta", StepOutcome::Failed, "the phone refused flash: write error"}};
  out.push_back(half);

  BrokenPhone marks = broken("a slot without a try left", Cause::SlotMarked, Symptom::NoRoot);
  marks.seen = "(bootloader) slot-retry-count:a:0\n(bootloader) unlocked:yes\n";
  out.push_back(marks);

  BrokenPhone locked =
      broken("locked, by its sheet alone", Cause::LockedPhone, Symptom::StaysInBootloader);
  locked.sheet = "[phone]\ncodename = \"gnomon\"\n[state]\nlock = \"locked\"\n";
  out.push_back(locked);
  return out;
}

std::vector<BrokenPhone> twenty() {
  std::vector<BrokenPhone> out;

  BrokenPhone slot = broken("wrong slot", Cause::WrongSlot, Symptom::NoRoot);
  slot.seen = "[ro.boot.slot_suffix]: [_b]\n[ro.boot.vbmeta.device_state]: [unlocked]\n";
  out.push_back(slot);

  BrokenPhone stale = broken("stale vbmeta", Cause::StaleDigest, Symptom::StaysInBootloader);
  stale.written = {"init_boot"};
  out.push_back(stale);

  BrokenPhone packing =
      broken("wrong ramdisk compression", Cause::RamdiskPacking, Symptom::LoopsAtOnce);
  CpioBytes frame = packing.now->parts.generic;
  packing.now->parts.init.ramdisk = lz4_frame(frame.done());
  out.push_back(packing);

  BrokenPhone word = broken("lz4 size word lost", Cause::KernelPacking, Symptom::BlackScreen);
  word.stock.parts.boot.kernel = kernel_packed(true);
  word.now = word.stock;
  word.now->parts.boot.kernel = kernel_packed(false);
  word.now->flags = 3;
  word.written = {"boot", "vbmeta"};
  out.push_back(word);

  out.push_back(with_init(
      "init not executable", Cause::FirstProgram, Symptom::LoopsAtOnce,
      CpioBytes{}.folder("dev").folder("system").file("init", elf("arm64", "x"), 0100644)));

  BrokenPhone modules =
      broken("module generation mismatch", Cause::ModuleGeneration, Symptom::PartsDead);
  modules.now->parts.built_for = "5.15.1-android14-1-00001";
  modules.written = {"vendor_boot", "vbmeta"};
  out.push_back(modules);

  BrokenPhone level = broken("older patch level", Cause::PatchLevel, Symptom::AsksToErase);
  level.sheet = "[phone]\ncodename = \"gnomon\"\n[build]\npatch_level = \"2020-12-05\"\n";
  out.push_back(level);

  BrokenPhone sibling = broken("sibling variant", Cause::OtherVariant, Symptom::BlackScreen);
  sibling.stock.fingerprint = kBuildA;
  sibling.now->fingerprint = kBuildSibling;
  sibling.written = {"boot", "init_boot", "vendor_boot", "vbmeta"};
  out.push_back(sibling);

  BrokenPhone footer =
      broken("footer lost on a chained partition", Cause::FooterLost, Symptom::StaysInBootloader);
  footer.stock.chained = {"boot"};
  footer.now = footer.stock;
  footer.written = {"boot"};
  footer.without = {"boot"};
  out.push_back(footer);

  BrokenPhone ends =
      broken("fstab with carriage returns", Cause::MountTableForm, Symptom::LoopsAtOnce);
  std::string with_returns;
  for (const char c : kFstab)
    with_returns += c == '\n' ? std::string("\r\n") : std::string(1, c);
  set_fstab(ends, with_returns);
  out.push_back(ends);

  BrokenPhone mount =
      broken("fstab without the add-on's partition", Cause::MountTableLacks, Symptom::LoopsLater);
  mount.now->parts.generic.file("tide.rc", "service tide /metadata/tide/daemon\n");
  out.push_back(mount);

  BrokenPhone other =
      broken("boot patched where init_boot was due", Cause::OtherRamdisk, Symptom::NoRoot);
  other.now.emplace();
  CpioBytes put_in = other.now->parts.generic;
  put_journal(put_in);
  other.now->parts.boot.ramdisk = lz4_legacy(put_in.done());
  other.now->flags = 3;
  other.written = {"boot", "vbmeta"};
  out.push_back(other);

  BrokenPhone skip = broken("skip word left", Cause::SkipWord, Symptom::NoRoot);
  skip.slot.clear();
  skip.stock = one_slot();
  const auto old_boot = [](CpioBytes ramdisk) {
    std::string kernel = arm64_kernel("4.9.1-korvale");
    kernel += std::string(1, '\0') + "skip_initramfs" + std::string(9, '\0');
    return BootBytes{.version = 1,
                     .page = 2048,
                     .kernel = gzip(padded(kernel, 8)),
                     .ramdisk = gzip(ramdisk.done())}
        .done();
  };
  const auto root = [] {
    return CpioBytes{}
        .file("init", elf("arm64", "init"), 0100750)
        .folder("sbin")
        .file("sbin/recovery", elf("arm64", "r"), 0100750);
  };
  skip.stock.parts.extra["boot"] = old_boot(root());
  skip.stock.parts.without = {"init_boot", "vendor_boot"};
  skip.now = skip.stock;
  CpioBytes patched_root = root();
  put_journal(patched_root);
  skip.now->parts.extra["boot"] = old_boot(patched_root);
  skip.now->flags = 3;
  skip.written = {"boot", "vbmeta"};
  out.push_back(skip);

  BrokenPhone recovery =
      broken("recovery restored by the first start", Cause::RecoveryRestored, Symptom::NoRoot);
  recovery.slot.clear();
  recovery.stock = one_slot();
  recovery.now = recovery.stock;
  CpioBytes own = recovery_entries();
  put_journal(own);
  recovery.now->more["recovery"] = recovery_image(own);
  recovery.now->flags = 3;
  recovery.written = {"recovery", "vbmeta"};
  out.push_back(recovery);

  BrokenPhone keys = broken("data unreadable", Cause::DataKeys, Symptom::AsksToErase);
  keys.stock.parts.boot.os_version = keys.stock.parts.init.os_version = 0;
  keys.now = patched(keys.stock);
  keys.now->flags = 2;
  keys.seen = "[    9.1] vold: fscrypt_init_user0 failed: INVALID_KEY_BLOB\n";
  out.push_back(keys);

  BrokenPhone board = broken("dtbo of another board", Cause::OtherBoard, Symptom::BlackScreen);
  board.stock.more["dtbo"] = TableBytes{.blobs = {device_tree("Tarn 3", "korvale,gnomon")}}.done();
  board.now = board.stock;
  board.now->more["dtbo"] = TableBytes{.blobs = {device_tree("Tarn 2", "korvale,vernier")}}.done();
  board.now->flags = 3;
  board.written = {"dtbo", "vbmeta"};
  out.push_back(board);

  BrokenPhone generic =
      broken("generic system without its skip list", Cause::SkipList, Symptom::LoopsLater);
  generic.dropped = {"product_a"};
  out.push_back(generic);

  BrokenPhone half = broken("half an update", Cause::HalfUpdate, Symptom::LoopsLater);
  half.seen = "(bootloader) snapshot-update-status:snapshotted\n(bootloader) unlocked:yes\n";
  out.push_back(half);

  BrokenPhone rollback = broken("rollback", Cause::Rollback, Symptom::StaysInBootloader);
  rollback.now = rollback.stock;
  rollback.now->rollback = 2;
  rollback.written = {"vbmeta"};
  rollback.sheet = "[phone]\ncodename = \"gnomon\"\n[rollback]\n0 = 5\n";
  out.push_back(rollback);

  BrokenPhone full = broken("super full", Cause::SuperFull, Symptom::RefusesWrite);
  full.steps = {{"write-init_boot", StepOutcome::Accepted},
                {"resize-system", StepOutcome::Failed,
                 "the phone refused resize-logical-partition: Not enough space to resize "
                 "partition"}};
  out.push_back(full);
  return out;
}

}  // namespace

TEST_CASE("diagnose: twenty broken phones: the true cause first in eighteen, never below second") {
  const auto phones = twenty();
  REQUIRE(phones.size() == 20);
  std::size_t first = 0;
  for (const BrokenPhone& one : phones)
    if (check_among_first_two(one) == 0) ++first;
  CHECK(first >= 18);
}

TEST_CASE("diagnose: every cause has a phone that is broken by it, and names it first or second") {
  std::set<Cause> built;
  for (const BrokenPhone& one : twenty())
    built.insert(one.cause);
  for (const BrokenPhone& one : other_causes()) {
    (void)check_among_first_two(one);
    CHECK(built.insert(one.cause).second);
  }
  for (const CauseRow& row : cause_rows()) {
    CAPTURE(row.code);
    CHECK(built.contains(row.cause));
  }
}

TEST_CASE("diagnose: a phone that is as planned has no likely cause") {
  BrokenPhone well = broken("well", Cause::WrongSlot, Symptom::WarnsAndStarts);
  well.symptom.reset();
  Diagnosis told;
  (void)place_of_cause(well, &told);
  CAPTURE(told_text(told));
  for (const RankedCause& one : told.causes)
    CHECK(one.rank < 30);
}

TEST_CASE("diagnose: a locked phone is not told to have something written by its bootloader") {
  const std::string_view way = row_of(row_of(Cause::LockedPhone).way).text;
  CHECK(way.find("{back}") == way.npos);
  CHECK(way.find("recovery") != way.npos);
}

TEST_CASE("diagnose: every cause has its words, and its code stands once") {
  std::set<std::string_view> codes;
  for (const CauseRow& row : cause_rows()) {
    CHECK(codes.insert(row.code).second);
    CHECK(row.about.ends_with('.'));
    CHECK_FALSE(row.look.empty());
    CHECK_FALSE(row_of(row.way).text.empty());
    // The page has the same row.
    const std::string page = read(std::filesystem::path(source_folder()) / "docs/diagnose.md");
    const std::string line = fmt::format("| `{}` | {} | {} |\n", row.code, row.about, row.look);
    CHECK(page.find(line) != std::string::npos);
  }
}
