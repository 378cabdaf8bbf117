/// Five broken phones that the weights of `diagnose` were not tuned on: written before the weights,
/// and left as they are.

#include "support/broken_phone.hpp"

using namespace wexlo;
using namespace wexlo::test;

TEST_CASE("diagnose, kept back: five phones, the true cause among the first two") {
  std::vector<BrokenPhone> phones;

  // What was put in is gzip, and lz4 stands before it.
  BrokenPhone joint{.name = "joint", .cause = Cause::RamdiskJoint};
  joint.now.emplace();
  CpioBytes generic = joint.now->parts.generic;
  joint.now->parts.init.ramdisk = gzip(generic.done());
  joint.written = {"init_boot"};
  joint.symptom = Symptom::LoopsAtOnce;
  phones.push_back(joint);

  // The cable came out.
  BrokenPhone cable{.name = "cable", .cause = Cause::HalfWritten};
  cable.now = patched();
  cable.written = {"init_boot", "vbmeta"};
  cable.now->flags = 3;
  cable.steps = {{"write-init_boot", StepOutcome::Accepted},
                 {"write-vbmeta", StepOutcome::Unknown, "the answer to flash:vbmeta_a was lost"}};
  cable.symptom = Symptom::StaysInBootloader;
  phones.push_back(cable);

  // The other slot was tried too often.
  BrokenPhone marks{.name = "marks", .cause = Cause::SlotMarked};
  marks.now = patched();
  marks.now->flags = 3;
  marks.written = {"init_boot", "vbmeta"};
  marks.seen =
      "(bootloader) product:gnomon\n(bootloader) unlocked:yes\n(bootloader) slot-unbootable:a:yes\n"
      "(bootloader) slot-retry-count:a:0\n";
  marks.symptom = Symptom::StaysInBootloader;
  phones.push_back(marks);

  // A program for another processor took init's place.
  BrokenPhone processor{.name = "processor", .cause = Cause::FirstProgram, .with_kit = false};
  processor.now.emplace();
  processor.now->parts.generic.file("init", elf("x86_64", "x"), 0100750);
  processor.now->flags = 3;
  processor.written = {"init_boot", "vbmeta"};
  processor.symptom = Symptom::BlackScreen;
  phones.push_back(processor);

  // Locked again, with what was changed still on it.
  BrokenPhone locked{.name = "locked", .cause = Cause::LockedPhone};
  locked.now = patched();
  locked.written = {"init_boot"};
  locked.seen = "(bootloader) unlocked:no\nFAILED (remote: 'not allowed in locked state')\n";
  locked.symptom = Symptom::RefusesWrite;
  phones.push_back(locked);

  for (const BrokenPhone& one : phones)
    (void)check_among_first_two(one);
}
