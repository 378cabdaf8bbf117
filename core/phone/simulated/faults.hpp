#pragma once
/// What goes wrong on a simulated phone, on request: docs/simulated-phone.md.

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "phone/symptom.hpp"

namespace wexlo {

enum class FaultKind {
  LinkDrops,  ///< once so many bytes were sent to it in all
  Refuses,    ///< a command that begins so
  ReplyLost,  ///< of a command that begins so: it is done, and nobody hears of it
  BadBlock,   ///< a block of the next write is not what was sent
  Slow,       ///< a data phase takes so many milliseconds for each MiB
  DeadCable,  ///< after so many commands nothing is heard any more
  FullSuper,  ///< nothing is free in super
  LowBattery,
  Start,  ///< whatever is on it, it ends in this way
};

/// How each is asked for, with commas between: "drop=BYTES, refuse=COMMAND, …".
[[nodiscard]] std::string fault_forms();
/// A line each, with what it does.
[[nodiscard]] std::string fault_help();

struct Fault {
  FaultKind kind = FaultKind::LinkDrops;
  std::string what;  ///< of Refuses and ReplyLost: how the command begins; of Start: a symptom
  std::uint64_t number = 0;  ///< bytes, milliseconds, commands
};
/// "drop=4096", "refuse=flash:boot_a", "bad-block". Errors: Usage.
[[nodiscard]] Result<Fault> parse_fault(std::string_view text);

/// Faults that wait for their moment.
class Faults {
 public:
  Faults() = default;
  explicit Faults(std::vector<Fault> faults) : faults_(std::move(faults)) {}

  [[nodiscard]] bool has(FaultKind kind) const;
  /// A command begins. @return what happens to it; nullopt: nothing
  [[nodiscard]] std::optional<FaultKind> command(std::string_view command);
  /// A command was done. @return whether its reply is lost
  [[nodiscard]] bool loses_reply(std::string_view command);
  /// Bytes that are sent to the phone. @return how many arrive before the link drops; nullopt: all
  [[nodiscard]] std::optional<std::uint64_t> data(std::uint64_t size);
  /// A write begins. @return whether a block of it will be bad
  [[nodiscard]] bool spoils_write();
  [[nodiscard]] std::uint64_t milliseconds_a_mebibyte() const;
  /// In which way it fails, whatever is on it; nullopt: nobody asked for one.
  [[nodiscard]] std::optional<Symptom> symptom() const;

 private:
  [[nodiscard]] Fault* find(FaultKind kind);
  [[nodiscard]] Fault* find(FaultKind kind, std::string_view command);
  void happened(const Fault* fault);
  std::vector<Fault> faults_;
  std::uint64_t bytes_ = 0, commands_ = 0;
};

}  // namespace wexlo
