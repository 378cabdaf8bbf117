#include "flash/confirm.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "flash/rows_verdict.hpp"

namespace wexlo {
namespace {

constexpr std::string_view kRows[] = {"phone",
                                      "started",
                                      "slot",
                                      "build",
                                      "patch level",
                                      "verified boot",
                                      "program",
                                      "command line",
                                      "kernel",
                                      "SELinux",
                                      "encryption",
                                      "user data",
                                      "automatic updates"};
enum class Row {
  Phone,
  Started,
  Slot,
  Build,
  PatchLevel,
  VerifiedBoot,
  Program,
  CommandLine,
  Kernel,
  Selinux,
  Encryption,
  Data,
  Updates,
};

std::string name_of(Row row) {
  return std::string(kRows[static_cast<std::size_t>(row)]);
}

class Confirmer {
 public:
  Confirmer(const Expected& expected, const Observed& observed)
      : want_(expected), seen_(observed) {}

  Confirmed run() {
    conflicts();
    phone();
    started();
    if (want_.slotted && !want_.slot.empty())
      compare(Row::Slot, RowWeight::Place, want_.slot, Fact::Slot,
              [&](const std::string& value) { return value == want_.slot; });
    build();
    verified_boot();
    put_in();
    protections();
    data();
    updates();
    RowsVerdict all = verdict_of(out_.rows, weights_, want_.stock);
    out_.verdict = all.took;
    out_.reason = std::move(all.reason);
    return std::move(out_);
  }

 private:
  void add(const std::string& what, RowWeight weight, std::string planned, std::string observed,
           RowVerdict verdict, std::string evidence) {
    out_.rows.push_back(
        {what, std::move(planned), std::move(observed), verdict, std::move(evidence)});
    weights_.push_back(weight);
  }
  void missing(const std::string& what, RowWeight weight, std::string planned,
               std::string_view question, bool typed = true) {
    add(what, weight, std::move(planned), "", RowVerdict::NotSeen,
        "nothing that was given says it");
    ask(what, question, typed);
  }
  void ask(const std::string& what, std::string_view question, bool typed = true) {
    if (!question.empty()) out_.ask.push_back({what, std::string(question), typed});
  }

  template <class Fits>
  void compare(Row row, RowWeight weight, const std::string& planned, Fact fact, Fits fits) {
    if (const Seen* one = seen_.find(fact))
      return add(name_of(row), weight, planned, one->value,
                 fits(one->value) ? RowVerdict::Holds : RowVerdict::Differs, one->at.text());
    unsure(row, weight, planned, fact);
  }
  /// Nothing was seen of it, or things that contradict each other.
  void unsure(Row row, RowWeight weight, const std::string& planned, Fact fact) {
    const auto both = seen_.conflict(fact);
    if (!both) return missing(name_of(row), weight, planned, fact_question(fact));
    add(name_of(row), weight, planned,
        fmt::format("{}, and {}", both->first.value, both->second.value), RowVerdict::NotSeen,
        fmt::format("{} and {} contradict each other", both->first.at.text(),
                    both->second.at.text()));
    ask(name_of(row), fact_question(fact));
  }

  void conflicts() {
    for (const auto& [fact, ignored] : seen_.facts)
      if (const auto both = seen_.conflict(fact))
        out_.findings.push_back(
            usual_finding(FindingId(FindingCode::FactsDiffer, std::string(fact_word(fact))),
                          fmt::format("{}: {} says {}, {} says {}: neither is used.",
                                      fact_about(fact), both->first.at.text(), both->first.value,
                                      both->second.at.text(), both->second.value),
                          both->second.at.text()));
  }

  // Every name that is seen has to fit: two phones of one kind differ in the serial number alone.
  void phone() {
    std::string planned = want_.device.empty() ? "not known" : want_.device;
    if (!want_.serial.empty()) planned += ", serial " + want_.serial;
    std::vector<std::string> values, places;
    bool differs = false, named = false, numbered = want_.serial.empty();
    const auto look = [&](Fact fact, bool fits) {
      const Seen* one = seen_.find(fact);
      values.push_back(one->value);
      places.push_back(one->at.text());
      differs = differs || !fits;
    };
    const auto is_named = [&](const std::string& name) {
      return name == want_.device || want_.products.contains(name);
    };
    if (const Seen* device = seen_.find(Fact::Device); device != nullptr && !want_.device.empty()) {
      look(Fact::Device, is_named(device->value));
      named = true;
    }
    if (const Seen* product = seen_.find(Fact::Product);
        product != nullptr && !want_.products.empty()) {
      look(Fact::Product, is_named(product->value));
      named = true;
    }
    if (const Seen* serial = seen_.find(Fact::Serial); serial != nullptr && !want_.serial.empty()) {
      look(Fact::Serial, serial->value == want_.serial);
      numbered = true;
    }
    const bool known = (named || want_.device.empty()) && numbered;
    const RowVerdict verdict = differs ? RowVerdict::Differs
                               : known ? RowVerdict::Holds
                                       : RowVerdict::NotSeen;
    add(name_of(Row::Phone), RowWeight::Phone, planned, fmt::format("{}", fmt::join(values, ", ")),
        verdict, fmt::format("{}", fmt::join(places, ", ")));
    if (verdict == RowVerdict::NotSeen && !named)
      ask(name_of(Row::Phone), fact_question(Fact::Device));
    if (verdict == RowVerdict::NotSeen && !numbered)
      ask(name_of(Row::Phone), fact_question(Fact::Serial));
    if (differs)
      out_.findings.push_back(
          usual_finding(FindingCode::SeenElsewhere,
                        fmt::format("The phone is {}; the kit was flashed to {}.",
                                    fmt::join(values, ", "), planned),
                        places.front()));
  }

  void started() {
    const std::string planned = "the system comes up";
    const Seen* up = seen_.find(Fact::Started);
    const auto fatal = std::ranges::find_if(seen_.signs, [](const SeenSign& one) {
      return one.sign == LogSign::KernelPanic || one.sign == LogSign::RootMount ||
             one.sign == LogSign::NoInit || one.sign == LogSign::InitDied ||
             one.sign == LogSign::InitMode || one.sign == LogSign::ExecFormat;
    });
    const bool stopped = fatal != seen_.signs.end();
    if (up != nullptr && stopped)
      return add(name_of(Row::Started), RowWeight::Side, planned, "both", RowVerdict::NotSeen,
                 fmt::format("{} says that it came up, {} that it did not", up->at.text(),
                             fatal->at.text()));
    if (stopped)
      return add(name_of(Row::Started), RowWeight::Place, planned,
                 std::string(log_sign_about(fatal->sign)), RowVerdict::Differs, fatal->at.text());
    const bool other = has_core() || !want_.build.empty();
    compare(Row::Started, other ? RowWeight::Side : RowWeight::Core, planned, Fact::Started,
            [](const std::string& value) { return value == "yes"; });
  }

  void build() {
    const RowWeight weight = has_core() ? RowWeight::Side : RowWeight::Core;
    if (!want_.build.empty())
      compare(Row::Build, weight, want_.build, Fact::Fingerprint,
              [&](const std::string& value) { return value == want_.build; });
    if (!want_.patch_level.empty())
      compare(Row::PatchLevel, RowWeight::Side, want_.patch_level, Fact::PatchLevel,
              [&](const std::string& value) { return value == want_.patch_level; });
  }

  [[nodiscard]] bool has_core() const {
    return !want_.stock && (want_.program || !want_.properties.empty() ||
                            !want_.signs.words.empty() || !want_.signs.kernel.empty());
  }

  void verified_boot() {
    const bool own = want_.needs == Needs::OwnKey && !want_.stock;
    std::string planned = own ? "yellow (locked, the owner's key)" : "orange (unlocked)";
    if (want_.stock) planned = "green (locked) or orange (unlocked)";
    const auto fits = [&](const std::string& state) {
      if (want_.stock) return state == "green" || state == "orange";
      return state == (own ? "yellow" : "orange");
    };
    if (seen_.find(Fact::VerifiedState) != nullptr || seen_.conflict(Fact::VerifiedState) ||
        seen_.find(Fact::Lock) == nullptr || want_.stock)
      return compare(Row::VerifiedBoot, RowWeight::Side, planned, Fact::VerifiedState, fits);
    compare(Row::VerifiedBoot, RowWeight::Side, planned, Fact::Lock,
            [&](const std::string& lock) { return lock == (own ? "locked" : "unlocked"); });
  }

  void put_in() {
    if (want_.stock) return nothing_left();
    if (want_.program) program();
    for (const auto& [name, one] : want_.properties)
      if (one.value != one.before) property(name, one);
    command_line();
    if (!want_.signs.kernel.empty())
      compare(Row::Kernel, RowWeight::Core, want_.signs.kernel, Fact::Kernel,
              [&](const std::string& value) { return value == want_.signs.kernel; });
  }

  /// That something is not there cannot be seen in a part of a log; that it is there can.
  void nothing_left() {
    for (const std::string& text : want_.shows)
      if (const Seen* one = seen_.find_line(text))
        return add(name_of(Row::Program), RowWeight::Place, "nothing of what was put in", text,
                   RowVerdict::Differs, one->at.text());
  }

  void program() {
    const std::string name = name_of(Row::Program);
    std::string planned = "root's rights in a shell";
    if (!want_.shows.empty()) planned = fmt::format("\"{}\" in a log", want_.shows.front());
    for (const std::string& text : want_.shows)
      if (const Seen* one = seen_.find_line(text))
        return add(name, RowWeight::Core, planned, text, RowVerdict::Holds, one->at.text());
    if (const Seen* root = seen_.find(Fact::User))
      return add(name, RowWeight::Core, planned, "a shell has root's rights", RowVerdict::Holds,
                 root->at.text());
    if (want_.shows.empty()) return missing(name, RowWeight::Core, planned, "id");
    missing(name, RowWeight::Core, planned,
            fmt::format("dmesg | grep \"{}\"", want_.shows.front()));
  }

  void property(const std::string& name, const Expected::Property& want) {
    const std::string what = "property " + name;
    const auto at = seen_.properties.find(name);
    if (at == seen_.properties.end())
      return missing(what, RowWeight::Core, want.value, "getprop " + name);
    add(what, RowWeight::Core, want.value, at->second.value,
        at->second.value == want.value ? RowVerdict::Holds : RowVerdict::Differs,
        at->second.at.text());
  }

  void command_line() {
    if (want_.signs.words.empty()) return;
    const std::string planned = fmt::format("{}", fmt::join(want_.signs.words, " "));
    const Seen* line = nullptr;
    for (const auto& [name, one] : seen_.words)
      if (one.at.kind == LineKind::CommandLine || one.at.kind == LineKind::Log) line = &one;
    std::vector<std::string> lacking;
    for (const std::string& word : want_.signs.words) {
      const std::size_t equals = word.find('=');
      const auto at = seen_.words.find(word.substr(0, equals));
      const std::string value = equals == std::string::npos ? "" : word.substr(equals + 1);
      if (at == seen_.words.end() || at->second.value != value) lacking.push_back(word);
    }
    if (lacking.empty())
      return add(name_of(Row::CommandLine), RowWeight::Core, planned, planned, RowVerdict::Holds,
                 line == nullptr ? "" : line->at.text());
    // A log may cut the line; the phone's own answer does not.
    if (line != nullptr && line->at.kind == LineKind::CommandLine)
      return add(name_of(Row::CommandLine), RowWeight::Core, planned,
                 fmt::format("without {}", fmt::join(lacking, " ")), RowVerdict::Differs,
                 line->at.text());
    missing(name_of(Row::CommandLine), RowWeight::Core, planned, "cat /proc/cmdline");
  }

  void protections() {
    const std::string selinux = want_.signs.permissive && !want_.stock ? "permissive" : "enforcing";
    compare(Row::Selinux, RowWeight::Side, selinux, Fact::Selinux,
            [&](const std::string& value) { return value == selinux; });
    if (want_.signs.encrypted.value_or(false))
      compare(Row::Encryption, RowWeight::Side, "encrypted", Fact::Encryption,
              [](const std::string& value) { return value == "encrypted"; });
  }

  /// What the log says is stronger than whether somebody went through the first set-up.
  void data() {
    const std::string planned = want_.wiped ? "erased" : "kept";
    if (seen_.find(Fact::Data) != nullptr || seen_.conflict(Fact::Data))
      return compare(
          Row::Data, RowWeight::Side, planned, Fact::Data,
          [&](const std::string& value) { return value == (want_.wiped ? "new" : "kept"); });
    const Seen* set_up = seen_.find(Fact::SetUp);
    if (set_up == nullptr) return unsure(Row::Data, RowWeight::Side, planned, Fact::SetUp);
    const bool done = set_up->value == "yes";
    const std::string observed =
        done ? "the first set-up was gone through" : "the first set-up waits";
    // An erased phone may have been set up since.
    if (want_.wiped && done)
      return add(name_of(Row::Data), RowWeight::Side, planned, observed, RowVerdict::NotSeen,
                 set_up->at.text() + ": it may have been set up since");
    add(name_of(Row::Data), RowWeight::Side, planned, observed,
        want_.wiped == !done ? RowVerdict::Holds : RowVerdict::Differs, set_up->at.text());
  }

  /// It says nothing of this flash, and much of how long it lasts.
  void updates() {
    compare(Row::Updates, RowWeight::Advice, "off", Fact::Updates,
            [](const std::string& value) { return value == "off"; });
    if (out_.rows.back().verdict == RowVerdict::Differs)
      out_.findings.push_back(usual_finding(
          FindingCode::UpdatesOn, "Automatic updates are on: one of them would undo the patch.",
          out_.rows.back().evidence));
  }

  const Expected& want_;
  const Observed& seen_;
  Confirmed out_;
  std::vector<RowWeight> weights_;  ///< of the rows
};

}  // namespace

Confirmed confirm(const Expected& expected, const Observed& observed) {
  return Confirmer(expected, observed).run();
}

}  // namespace wexlo
