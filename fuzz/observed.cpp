/// What people paste, and what a kit keeps of it.

#include <algorithm>

#include "kit/folder/record.hpp"
#include "kit/folder/record_part.hpp"
#include "observed/observed.hpp"
#include "target.hpp"

namespace wexlo::fuzz {

/// Any text ends, and what is told of it has its line.
void observed(View input) {
  Observed out;
  read_observed(as_text(input), "notes.txt", out);
  const auto lines = static_cast<std::size_t>(std::ranges::count(as_text(input), '\n')) + 1;
  for (const auto& [fact, all] : out.facts)
    for (const Seen& one : all)
      must(!one.value.empty() && one.at.line >= 1 && one.at.line <= lines);
  for (const SeenPiece& piece : out.pieces)
    must(piece.first <= piece.last && piece.lines >= 1);
  must(out.ignored.size() <= out.lines.size());
}

std::vector<std::string> observed_seeds() {
  return {
      "12: > [ro.product.device]: [gnomon]\n[ro.boot.slot_suffix]: [_a]\nEnforcing\nuid=0(root)\n",
      "gnomon:/ $ settings get secure user_setup_complete\n1\nandroidboot.slot_suffix = \"_a\"\n",
      "<6>[    0.000000] Linux version 6.1.2 (a@b) #1 SMP\n[ 1.0] Kernel command line: a=\"b c\" "
      "d\n"
      "/dev/block/dm-5 on / type ext4 (ro)\n(bootloader) partition-size:boot_a:0x100\n",
      "\xff\xfe[\0r\0o\0.\0x\0]\0:\0 \0[\0y\0]\0\n"};
}

/// What is accepted is kept as it is by an entry behind it; what was changed is found.
void record(View input) {
  const auto read = parse_record(as_text(input), "record.toml");
  if (!read) return;
  const auto more = with_entry(*read, {.time = "2026-11-30T00:00:00Z"}, nullptr);
  must(more.has_value() && more->starts_with(read->text));
  const auto again = parse_record(*more, "record.toml");
  if (!again) return;  // it ended inside of a line
  must(again->entries.size() == read->entries.size() + 1);
  must(again->entries.back().intact && again->entries.back().chained);
  const std::string page = with_page(as_text(input), "<p>x</p>\n", again->entries.back().sha256);
  const SplitReport split = split_report(page);
  must(split.has_page && split.intact && split.last == again->entries.back().sha256);
}

std::vector<std::string> record_seeds() {
  const RecordEntry entry{.time = "2026-11-30T07:00:00Z",
                          .serial = "S1",
                          .verdict = Took::InPart,
                          .reason = "r",
                          .steps = {{"write-boot", "accepted", ""}},
                          .rows = {{"slot", "a", "b", RowVerdict::Differs, "notes.txt:3"}},
                          .facts = {"slot = b"}};
  const auto one = with_entry({}, entry, nullptr);
  const auto first = parse_record(*one, "record.toml");
  return {*one, *with_entry(*first, entry, nullptr)};
}

}  // namespace wexlo::fuzz
