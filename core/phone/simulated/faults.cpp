#include "phone/simulated/faults.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "text/nearest.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

struct FaultRow {
  FaultKind kind;
  std::string_view word;
  std::string_view value;  ///< what stands behind `=`: "BYTES"; empty: nothing
  bool lasting;            ///< false: it happens once
  std::string_view about;
};

constexpr FaultRow kRows[] = {
    {FaultKind::LinkDrops, "drop", "BYTES", false,
     "The link drops once so many bytes were sent to the phone."},
    {FaultKind::Refuses, "refuse", "COMMAND", false,
     "The phone refuses a command that begins so, e.g. flash:boot."},
    {FaultKind::ReplyLost, "no-reply", "COMMAND", false,
     "The phone does a command that begins so, and its answer is lost."},
    {FaultKind::BadBlock, "bad-block", "", false,
     "A block of the next write is not what was sent."},
    {FaultKind::Slow, "slow", "MS", true, "Each MiB takes so many milliseconds."},
    {FaultKind::DeadCable, "dead-cable", "COMMANDS", true,
     "After so many commands nothing is heard of the phone."},
    {FaultKind::FullSuper, "full-super", "", true, "Nothing is free in super."},
    {FaultKind::LowBattery, "low-battery", "", true, "The battery is almost empty."},
    {FaultKind::Start, "start", "SYMPTOM", true,
     "Whatever is on it, it fails in this way: the symptoms of diagnose."},
};

const FaultRow& row_of(FaultKind kind) {
  return *std::ranges::find(kRows, kind, &FaultRow::kind);
}

std::string fault_form(const FaultRow& row) {
  return row.value.empty() ? std::string(row.word) : fmt::format("{}={}", row.word, row.value);
}

Error no_fault(std::string_view text, std::string expected) {
  return {.code = ErrorCode::Usage,
          .message = "there is no such fault",
          .expected = std::move(expected),
          .found = std::string(text)};
}

}  // namespace

std::string fault_forms() {
  std::string out;
  for (const FaultRow& one : kRows)
    out += (out.empty() ? "" : ", ") + fault_form(one);
  return out;
}

std::string fault_help() {
  std::string out;
  for (const FaultRow& one : kRows)
    out += fmt::format("  {:<22}{}\n", fault_form(one), one.about);
  return out;
}

Result<Fault> parse_fault(std::string_view text) {
  const std::size_t mark = text.find('=');
  const std::string_view word = text.substr(0, mark);
  const auto* const row = std::ranges::find(kRows, word, &FaultRow::word);
  if (row == std::end(kRows)) {
    std::vector<std::string> words;
    for (const FaultRow& one : kRows)
      words.emplace_back(one.word);
    Error why = no_fault(text, fault_forms());
    why.hint = did_you_mean(std::string(word), words);
    return fail(std::move(why));
  }
  const std::string_view value = mark == text.npos ? "" : text.substr(mark + 1);
  const std::string form = fault_form(*row);
  if (value.empty() != row->value.empty() || (mark != text.npos && value.empty()))
    return fail(no_fault(text, form));
  Fault out{.kind = row->kind, .what = std::string(value)};
  if (row->value.empty() || row->value == "COMMAND") return out;
  if (row->kind == FaultKind::Start) {
    WEXLO_CHECK(parse_symptom(value));
    return out;
  }
  const auto number = parse_number(value);
  if (!number) return fail(no_fault(text, form));
  out.number = *number;
  return out;
}

bool Faults::has(FaultKind kind) const {
  return std::ranges::find(faults_, kind, &Fault::kind) != faults_.end();
}

Fault* Faults::find(FaultKind kind) {
  const auto at = std::ranges::find(faults_, kind, &Fault::kind);
  return at == faults_.end() ? nullptr : &*at;
}

Fault* Faults::find(FaultKind kind, std::string_view command) {
  const auto at = std::ranges::find_if(
      faults_, [&](const Fault& one) { return one.kind == kind && command.starts_with(one.what); });
  return at == faults_.end() ? nullptr : &*at;
}

void Faults::happened(const Fault* fault) {
  if (!row_of(fault->kind).lasting) faults_.erase(faults_.begin() + (fault - faults_.data()));
}

std::optional<FaultKind> Faults::command(std::string_view command) {
  ++commands_;
  if (const Fault* dead = find(FaultKind::DeadCable); dead != nullptr && commands_ > dead->number)
    return FaultKind::DeadCable;
  if (symptom() == Symptom::RefusesWrite && command.starts_with("flash:"))
    return FaultKind::Refuses;
  const Fault* const refused = find(FaultKind::Refuses, command);
  if (refused == nullptr) return std::nullopt;
  happened(refused);
  return FaultKind::Refuses;
}

bool Faults::loses_reply(std::string_view command) {
  const Fault* const lost = find(FaultKind::ReplyLost, command);
  if (lost == nullptr) return false;
  happened(lost);
  return true;
}

std::optional<std::uint64_t> Faults::data(std::uint64_t size) {
  const std::uint64_t before = bytes_;
  bytes_ += size;
  const Fault* const drop = find(FaultKind::LinkDrops);
  if (drop == nullptr || drop->number >= bytes_) return std::nullopt;
  const std::uint64_t arrived = drop->number - std::min(drop->number, before);
  happened(drop);
  return arrived;
}

bool Faults::spoils_write() {
  const Fault* const bad = find(FaultKind::BadBlock);
  if (bad == nullptr) return false;
  happened(bad);
  return true;
}

std::optional<Symptom> Faults::symptom() const {
  const auto at = std::ranges::find(faults_, FaultKind::Start, &Fault::kind);
  if (at == faults_.end()) return std::nullopt;
  const auto read = parse_symptom(at->what);
  return read ? std::optional(*read) : std::nullopt;
}

std::uint64_t Faults::milliseconds_a_mebibyte() const {
  const auto at = std::ranges::find(faults_, FaultKind::Slow, &Fault::kind);
  return at == faults_.end() ? 0 : at->number;
}

}  // namespace wexlo
