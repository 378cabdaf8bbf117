/// The mistakes of a bench, each made on a simulated phone: how the start ends, and what is said.

#include "phone/simulated/packages.hpp"
#include "support/containers.hpp"
#include "support/packages.hpp"
#include "support/patching.hpp"
#include "support/start_bench.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

bool says(const std::string& text, const std::string& part) {
  return text.find(part) != text.npos;
}

}  // namespace

TEST_CASE("power-on: a stock phone starts, locked and unlocked, and the log tells how") {
  for (const bool locked : {true, false}) {
    OnBench bench{StockPhone{}};
    bench.phone->state.locked = locked;
    const PoweredOn started = bench.start();
    CAPTURE(started.reason);
    CHECK(started.verdict == StartVerdict::Starts);
    CHECK(started.addon == AddonSeen::None);
    CHECK(started.slot == "a");
    CHECK(started.log.size() > 4);
    CHECK(bench.phone->state.rollback.at(0) == 3);
    CHECK_FALSE(bench.phone->state.fuse);
  }
}

TEST_CASE("power-on: a patched init_boot: the add-on is seen, the fuse is tripped") {
  OnBench bench{StockPhone{}};
  StockPhone other = patched();
  other.flags = 3;
  const auto images = other.images();
  bench.write("init_boot_a", images.at("init_boot"));
  bench.write("vbmeta_a", images.at("vbmeta"));
  const PoweredOn started = bench.start();
  CAPTURE(started.reason);
  CHECK(started.starts());
  CHECK(started.addon == AddonSeen::Seen);
  CHECK(bench.phone->state.fuse);
  // And back.
  bench.write("init_boot_a", bench.stock_images.at("init_boot"));
  bench.write("vbmeta_a", bench.stock_images.at("vbmeta"));
  const PoweredOn back = bench.start();
  CHECK(back.verdict == StartVerdict::Starts);
  CHECK(back.addon == AddonSeen::None);
}

TEST_CASE("mistake: one slot only, and the phone starts from the other") {
  OnBench bench{StockPhone{}};
  bench.write("init_boot_b", patched().images().at("init_boot"));
  const PoweredOn started = bench.start();
  CHECK(started.verdict == StartVerdict::OtherSlot);
  CHECK(started.cause == StartCause::SlotNotWritten);
  CHECK(started.reason == "Only slot b was written; the phone starts from a.");
}

TEST_CASE("mistake: boot written where init_boot was due") {
  // The ramdisk in boot is joined by nobody as long as init_boot has one.
  OnBench bench{StockPhone{}};
  StockPhone other;
  CpioBytes generic = other.parts.generic;
  put_journal(generic);
  other.parts.boot.ramdisk = lz4_legacy(generic.done());
  bench.write("boot_a", other.images().at("boot"));
  const PoweredOn started = bench.start();
  CAPTURE(started.reason);
  CHECK(started.cause == StartCause::OtherRamdisk);
  CHECK(started.verdict == StartVerdict::StartsWithWarning);
  CHECK(started.addon == AddonSeen::NotSeen);
  CHECK(says(started.reason, "put into boot never runs: its first ramdisk comes from init_boot"));
  // The whole image of the other partition: there is no kernel.
  OnBench wrong{StockPhone{}};
  wrong.write("boot_a", patched().images().at("init_boot"));
  CHECK(wrong.start().cause == StartCause::NoKernel);
}

TEST_CASE("mistake: verification left on: a locked phone stops, an unlocked one warns") {
  for (const bool locked : {true, false}) {
    OnBench bench{StockPhone{}};
    bench.write("init_boot_a", patched().images().at("init_boot"));
    bench.phone->state.locked = locked;
    const PoweredOn started = bench.start();
    CAPTURE(started.reason);
    CHECK(started.verdict == (locked ? StartVerdict::OtherSlot : StartVerdict::StartsWithWarning));
    CHECK(started.cause == (locked ? StartCause::NotVerified : StartCause::VerificationWarns));
    CHECK(says(started.reason, locked ? "Verification is still on" : "shows its warning"));
  }
}

TEST_CASE("mistake: a locked phone of one slot with a changed image stops") {
  StockPhone from;
  from.slotted = false;
  OnBench bench{from};
  bench.write("init_boot", patched().images().at("init_boot"));
  bench.phone->state.locked = true;
  const PoweredOn started = bench.start();
  CHECK(started.verdict == StartVerdict::Stops);
  CHECK(started.cause == StartCause::NotVerified);
}

TEST_CASE("mistake: an older patch level: the data cannot be read, until it is erased") {
  OnBench bench{StockPhone{}};
  CHECK(bench.phone->state.data.bound_to == "2020-10");
  StockPhone older;
  older.parts.boot.os_version = older.parts.init.os_version = 0x20000148;  // 2020-08
  older.flags = 3;
  const auto images = older.images();
  for (const char* name : {"boot", "init_boot", "vbmeta"})
    bench.write(std::string(name) + "_a", images.at(name));
  const PoweredOn started = bench.start();
  CHECK(started.verdict == StartVerdict::Stops);
  CHECK(started.cause == StartCause::PatchLevel);
  CHECK(says(started.reason, "bound to the patch level 2020-10, these images have 2020-08"));
  CHECK(bench.phone->state.data.unreadable);
  bench.phone->wipe_data();
  CHECK(bench.start().starts());
  CHECK(bench.phone->state.data.bound_to == "2020-08");
}

TEST_CASE("mistake: a rollback index below the stored one") {
  StockPhone from;
  from.slotted = false;
  OnBench bench{from};
  bench.phone->state.rollback[0] = 4;
  bench.phone->state.locked = true;
  const PoweredOn started = bench.start();
  CHECK(started.verdict == StartVerdict::Stops);
  CHECK(started.cause == StartCause::Rollback);
  bench.phone->state.locked = false;
  CHECK(bench.start().starts());
}

TEST_CASE("mistake: slot marks: one that does not start is passed over, none left is told") {
  OnBench bench{StockPhone{}};
  bench.write("init_boot_a", patched().images().at("init_boot"));
  bench.phone->state.slots["a"] = {.tries = 7, .successful = false, .unbootable = true};
  const PoweredOn started = bench.start();
  CHECK(started.verdict == StartVerdict::OtherSlot);
  CHECK(started.cause == StartCause::SlotUnbootable);
  CHECK(says(started.reason, "starts from slot b: slot a is marked as one that does not start"));
  OnBench none{StockPhone{}};
  none.phone->state.slots["a"] = {.tries = 0, .successful = false};
  none.phone->state.slots["b"] = {.unbootable = true};
  const PoweredOn stopped = none.start();
  CHECK(stopped.verdict == StartVerdict::Stops);
  CHECK(stopped.cause == StartCause::NoTriesLeft);
}

TEST_CASE("mistake: /init that cannot run: its mode, its processor, no program at all") {
  const std::string program = elf("arm64", "x");
  const std::vector<std::pair<std::string, std::function<void(CpioBytes&)>>> cases{
      {"cannot run it", [&](CpioBytes& c) { c.file("init", program, 0100640); }},
      {"for x86_64", [&](CpioBytes& c) { c.file("init", elf("x86_64", "x"), 0100750); }},
      {"neither a program", [&](CpioBytes& c) { c.file("init", "hello", 0100750); }}};
  for (const auto& [sentence, put] : cases) {
    CAPTURE(sentence);
    OnBench bench{StockPhone{}};
    StockPhone other;
    put(other.parts.generic);
    bench.write("init_boot_a", other.images().at("init_boot"));
    const PoweredOn started = bench.start();
    CAPTURE(started.reason);
    CHECK(started.verdict == StartVerdict::Stops);
    CHECK(started.cause == StartCause::FirstProgram);
    CHECK(says(started.reason, sentence));
  }
}

TEST_CASE("mistake: a ramdisk in a form that kernels do not unpack") {
  OnBench bench{StockPhone{}};
  StockPhone other;
  CpioBytes cpio = other.parts.generic;
  other.parts.init.ramdisk = lz4_frame(cpio.done());
  bench.write("init_boot_a", other.images().at("init_boot"));
  const PoweredOn started = bench.start();
  CHECK(started.verdict == StartVerdict::Stops);
  CHECK(started.cause == StartCause::RamdiskFormat);
  CHECK(says(started.reason, "lz4 frame"));
}

TEST_CASE("mistake: a joint that kernels read as a broken block, and nothing that is run first") {
  const auto cause_with = [](const StockPhone& other) {
    OnBench bench{StockPhone{}};
    bench.write("init_boot_a", other.images().at("init_boot"));
    const PoweredOn started = bench.start();
    CHECK(started.verdict == StartVerdict::Stops);
    return started.cause;
  };
  // The vendor's ramdisk before it is lz4.
  StockPhone other;
  CpioBytes cpio = other.parts.generic;
  other.parts.init.ramdisk = gzip(cpio.done());
  CHECK(cause_with(other) == StartCause::RamdiskJoint);
  StockPhone none;
  none.parts.init.ramdisk = lz4_legacy(CpioBytes{}.folder("dev").done());
  CHECK(cause_with(none) == StartCause::NoFirstProgram);
}

TEST_CASE("mistake: an update half done, and partitions written meanwhile") {
  for (const UpdateState update : {UpdateState::Snapshotted, UpdateState::Merging}) {
    OnBench bench{StockPhone{}};
    bench.write("init_boot_a", patched().images().at("init_boot"));
    bench.phone->state.update = update;
    const PoweredOn started = bench.start();
    CHECK(started.verdict == StartVerdict::Stops);
    CHECK(started.cause == StartCause::UpdateHalfDone);
    // While it is merged nothing is taken any more.
    bench.phone->state.mode = PhoneMode::Bootloader;
    const Status again = bench.phone->erase("boot_a");
    CHECK(again.has_value() == (update != UpdateState::Merging));
  }
}

TEST_CASE("mistake: verification switched off where the loader reads the level from the header") {
  StockPhone from;
  from.parts.boot.os_version = from.parts.init.os_version = 0;
  OnBench bench{from};
  bench.phone->state.level_from_header = true;
  bench.phone->state.data.bound_to = "2020-10";
  from.flags = 2;
  bench.write("vbmeta_a", from.images().at("vbmeta"));
  const PoweredOn started = bench.start();
  CHECK(started.verdict == StartVerdict::Stops);
  CHECK(started.cause == StartCause::DataUnreadable);
  CHECK(says(started.reason, "Switch the hash trees off alone"));
  // The hash trees alone do not do that.
  from.flags = 1;
  OnBench trees{from};
  trees.phone->state.level_from_header = true;
  trees.phone->state.data.bound_to = "2020-10";
  CHECK(trees.start().starts());
}

TEST_CASE("mistake: download mode without a vbmeta beside the changed image") {
  StockPhone from;
  from.slotted = false;
  from.download = true;
  OnBench bench{from};
  const auto images = patched(from).images();
  bench.phone->bring(PhoneMode::Download);
  const auto tar_of = [&](const std::vector<std::string>& names,
                          const std::map<std::string, SourcePtr>& which) {
    std::vector<Member> members;
    for (const std::string& name : names)
      members.push_back(
          {name + ".img", text(value_of(read_all(*which.at(name), 64 * kMiB)).view())});
    return open_memory(blob(tar(members)), "kit.tar");
  };
  const auto taken = take_download(*bench.phone, tar_of({"init_boot"}, images));
  REQUIRE_MESSAGE(taken, (taken ? "" : describe(taken.error())));
  const PoweredOn started = bench.start();
  CHECK(started.verdict == StartVerdict::Stops);
  CHECK(started.cause == StartCause::VbmetaNotAlong);
  // With it, and the reset that its first start wants.
  StockPhone off = patched(from);
  off.flags = 3;
  bench.phone->bring(PhoneMode::Download);
  REQUIRE(take_download(*bench.phone, tar_of({"init_boot", "vbmeta"}, off.images())));
  CHECK(bench.start().cause == StartCause::DataUnreadable);
  bench.phone->wipe_data();
  const PoweredOn good = bench.start();
  CHECK(good.starts());
  CHECK(good.addon == AddonSeen::Seen);
}

TEST_CASE("mistake: the guard of download mode, names that are no partition, parts that wipe") {
  StockPhone from;
  from.slotted = false;
  from.download = true;
  OnBench bench{from};
  const auto member = [](const SourcePtr& image) {
    return text(value_of(read_all(*image, 64 * kMiB)).view());
  };
  const SourcePtr changed = open_memory(
      blob(tar({{"init_boot.img", member(patched(from).images().at("init_boot"))}})), "kit.tar");
  CHECK(take_download(*bench.phone, changed).error().code == ErrorCode::PhoneRefused);
  bench.phone->bring(PhoneMode::Download);
  bench.phone->state.download.online = false;
  const auto refused = take_download(*bench.phone, changed);
  REQUIRE_FALSE(refused);
  CHECK(says(refused.error().message, "only official images are taken"));
  // Its maker's own are.
  const SourcePtr stock = open_memory(
      blob(tar({{"init_boot.img", member(bench.stock_images.at("init_boot"))}})), "stock.tar");
  CHECK(take_download(*bench.phone, stock));
  bench.phone->state.download.online = true;
  const SourcePtr odd = open_memory(blob(tar({{"engine.img", noise(5000)}})), "odd.tar");
  CHECK(says(take_download(*bench.phone, odd).error().message, "no partition for engine"));
  CHECK_FALSE(bench.phone->state.data.wiped);
  const SourcePtr wiping =
      open_memory(blob(tar({{"init_boot.img", member(bench.stock_images.at("init_boot"))},
                            {"userdata.img", noise(5000)}})),
                  "wiping.tar");
  CHECK(says(value_of(take_download(*bench.phone, wiping)).said, "wiped the user's data"));
  CHECK(bench.phone->state.data.wiped);
}

TEST_CASE("mistake: recovery written, and the system started first") {
  for (const bool straight : {true, false}) {
    StockPhone from;
    from.slotted = false;
    CpioBytes recovery = recovery_entries();
    from.more["recovery"] = recovery_image(recovery);
    OnBench bench{from};
    bench.phone->state.restores_recovery = true;
    put_journal(recovery);
    StockPhone other = from;
    other.more["recovery"] = recovery_image(recovery);
    bench.write("recovery", other.images().at("recovery"));
    if (straight) bench.phone->bring(PhoneMode::Recovery);
    const PoweredOn started = bench.start();
    CAPTURE(started.reason);
    CHECK((started.cause == StartCause::RecoveryRestored) != straight);
    CHECK(started.starts());
    const SourcePtr now = value_of(bench.phone->content("recovery"));
    CHECK((now == bench.stock_images.at("recovery")) != straight);
  }
}

TEST_CASE("mistake: what the phone itself refuses, in its words") {
  OnBench bench{StockPhone{}};
  SimulatedPhone& phone = *bench.phone;
  const auto refusal = [](const Status& done) {
    REQUIRE_FALSE(done);
    CHECK(done.error().code == ErrorCode::PhoneRefused);
    return done.error().message;
  };
  const SourcePtr large = open_memory(blob(noise(kPartition + 1)), "large");
  CHECK(says(refusal(phone.flash("boot_a", {"", large->size(), "", large})), "the image"));
  phone.state.critical = {"boot"};
  const SourcePtr image = bench.stock_images.at("boot");
  CHECK(says(refusal(phone.flash("boot", {"", image->size(), "", image})), "protected"));
  phone.state.critical_locked = false;
  CHECK(phone.flash("boot", {"", image->size(), "", image}));
  phone.state.mode = PhoneMode::Recovery;
  const SourcePtr foreign =
      open_memory(blob(zip({{"META-INF/com/android/metadata", "pre-device=vernier\n"},
                            {"boot.img", text(value_of(read_all(*image, kMiB)).view())}})),
                  "other.zip");
  const auto installed = install_package(phone, foreign);
  REQUIRE_FALSE(installed);
  CHECK(says(installed.error().message, "the package is for vernier, this phone is gnomon"));
}
