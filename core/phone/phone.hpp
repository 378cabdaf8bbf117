#pragma once
/// A phone as whoever flashes it sees it: what it answers, what it takes, what it is told to do.
/// Names of partitions are the phone's own, with their slots.

#include <optional>
#include <string>

#include "base/source.hpp"

namespace wexlo {

enum class PhoneMode {
  System,
  Bootloader,
  Userspace,  ///< the mode of the bootloader's protocol that runs in the system's own kernel
  Download,
  Recovery,
};
[[nodiscard]] std::string_view phone_mode_word(PhoneMode mode);
[[nodiscard]] std::optional<PhoneMode> phone_mode_of(std::string_view word);

/// A file that is sent to a phone.
struct PhoneFile {
  std::string name;        ///< for messages
  std::uint64_t size = 0;  ///< bytes
  std::string sha256;      ///< lower-case hex
  SourcePtr bytes;         ///< never nullptr
};

/// Errors of all: PhoneRefused (it says no, and why), LinkLost (what was told to it was not done),
/// ReplyLost (it may have done it, or not), Interrupted. One thread at a time.
class Phone {
 public:
  virtual ~Phone() = default;
  [[nodiscard]] virtual PhoneMode mode() const = 0;
  /// nullopt: it does not know the variable.
  [[nodiscard]] virtual Result<std::optional<std::string>> variable(const std::string& name) = 0;
  /// Brings it into a mode; it may be there already. Errors besides: Unsupported (no wire brings it
  /// there from where it is: somebody has to, by its keys).
  [[nodiscard]] virtual Status enter(PhoneMode mode) = 0;
  /// Somebody has brought it there by its keys. Errors: LinkLost (it does not answer as one that
  /// is there).
  [[nodiscard]] virtual Status brought(PhoneMode mode) = 0;
  /// Sends a file and has it written.
  [[nodiscard]] virtual Status write(const std::string& partition, const PhoneFile& file) = 0;
  /// Whether a partition holds what was written, by reading it back; nullopt: the phone does not
  /// give it back. Of a sparse image only what it gives is compared.
  [[nodiscard]] virtual Result<std::optional<bool>> holds(const std::string& partition,
                                                          const PhoneFile& file) = 0;
  /// Starts an image once, without writing it.
  [[nodiscard]] virtual Status start(const PhoneFile& file) = 0;
  [[nodiscard]] virtual Status erase(const std::string& partition) = 0;
  /// The slot that it starts from next: "a" or "b".
  [[nodiscard]] virtual Status choose_slot(const std::string& slot) = 0;
  /// Of an over-the-air update that waits for its merge.
  [[nodiscard]] virtual Status cancel_update() = 0;
  [[nodiscard]] virtual Status create_logical(const std::string& partition, std::uint64_t size) = 0;
  [[nodiscard]] virtual Status resize_logical(const std::string& partition, std::uint64_t size) = 0;
  [[nodiscard]] virtual Status drop_logical(const std::string& partition) = 0;
  /// Starts the system.
  [[nodiscard]] virtual Status restart() = 0;
};

}  // namespace wexlo
