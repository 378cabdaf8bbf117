#pragma once
/// What was seen of a phone, as a technician pastes or saves it: dumps of properties, command
/// lines, logs, a bootloader's variables, in any order and partly missing: docs/observed.md.

#include <map>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "base/pool.hpp"
#include "base/source.hpp"
#include "observed/log_signs.hpp"

namespace wexlo {

/// What a line is.
enum class LineKind {
  Property,     ///< of a running system
  Variable,     ///< of a bootloader
  CommandLine,  ///< of the kernel
  BootConfig,
  Kernel,  ///< its name and build
  Mount,
  User,    ///< who a shell is
  Answer,  ///< of a command that was typed
  Setting,
  Log,
  Typed,  ///< a command, nothing that a phone says
  Unknown,
};
[[nodiscard]] std::string_view line_kind_word(LineKind kind);   ///< "property", …
[[nodiscard]] std::string_view line_kind_about(LineKind kind);  ///< "properties of the system", …

/// One thing that is known of a phone.
enum class Fact {
  Serial,
  Device,   ///< what builds call it
  Product,  ///< what its bootloader calls it
  Variant,
  Fingerprint,
  PatchLevel,
  Slot,           ///< "a", "b"
  Lock,           ///< "locked", "unlocked"
  VerifiedState,  ///< "green", "yellow", "orange", "red"
  Update,         ///< "none", "snapshotted", "merging"
  Mode,           ///< "system", "recovery", "bootloader", "userspace"
  Kernel,         ///< release
  KernelBuild,    ///< "#1 SMP …"
  Selinux,        ///< "enforcing", "permissive", "disabled"
  Encryption,     ///< "encrypted", "unencrypted"
  Started,        ///< "yes": the system came up
  User,           ///< "root": a shell that has it
  SetUp,          ///< "yes", "no": the first set-up was gone through
  Data,           ///< "kept", "new", "unreadable"
  Updates,        ///< "off", "on": automatic ones
  PageSize,       ///< bytes of a page of memory
};
[[nodiscard]] std::string_view fact_word(Fact fact);   ///< "patch-level", …
[[nodiscard]] std::string_view fact_about(Fact fact);  ///< "security patch level", …
/// What to type or look at, on any phone, to get it; empty: nothing asks for it alone.
[[nodiscard]] std::string_view fact_question(Fact fact);

/// Where something was seen.
struct SeenAt {
  std::string file;
  std::size_t line = 0;  ///< from 1
  LineKind kind = LineKind::Unknown;
  [[nodiscard]] std::string text() const;  ///< "notes.txt:12"
  bool operator==(const SeenAt&) const = default;
};
struct Seen {
  std::string value;
  SeenAt at;
};

/// Lines of one kind, one after another.
struct SeenPiece {
  LineKind kind = LineKind::Unknown;
  std::string file;
  std::size_t first = 0, last = 0;  ///< lines, from 1
  std::size_t lines = 0;            ///< of this kind; blank ones between do not count
};

struct SeenSign {
  LogSign sign = LogSign::KernelPanic;
  std::string line;
  SeenAt at;
};

struct SeenMount {
  std::string device, point, type, flags;
  SeenAt at;
};

struct Observed {
  std::map<Fact, std::vector<Seen>> facts;  ///< in the order they were seen
  std::map<std::string, Seen> properties;   ///< the last value of each
  std::map<std::string, Seen> variables;    ///< of the bootloader
  std::map<std::string, Seen> words;        ///< of the kernel's command line and bootconfig
  std::vector<SeenMount> mounts;
  std::vector<SeenSign> signs;
  std::vector<Seen> lines;  ///< that are not blank, without what an editor or a chat put in front
  std::vector<SeenPiece> pieces;
  std::vector<Seen> ignored;  ///< lines that were not recognised

  /// The value, where all that was seen of it agree; nullptr: nothing was seen, or they differ.
  [[nodiscard]] const Seen* find(Fact fact) const;
  /// Two sights of it that differ.
  [[nodiscard]] std::optional<std::pair<Seen, Seen>> conflict(Fact fact) const;
  [[nodiscard]] bool empty() const { return facts.empty() && signs.empty() && properties.empty(); }
  /// The first line that holds a text; nullptr: none does.
  [[nodiscard]] const Seen* find_line(std::string_view text) const;
};

/// Adds what a text says. @param name  what the text is called, in `SeenAt::file`
void read_observed(std::string_view text, const std::string& name, Observed& out);
/// The same of files. Errors: LimitExceeded (over 16 MiB), those of reading, Interrupted.
[[nodiscard]] Result<Observed> read_observed_files(const std::vector<std::string>& files,
                                                   const Context& context);

}  // namespace wexlo
