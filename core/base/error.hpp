#pragma once
/// Errors as values: every failure names what, where (file, offset), what was expected, what was
/// found and what to do next. One place words them for people (`describe`); the program maps the
/// code to an exit code. Nothing in core prints.

#include <cstdint>
#include <expected>
#include <optional>
#include <string>
#include <string_view>

namespace wexlo {

enum class ErrorCode {
  // the call is wrong
  Usage,
  // the input is damaged, or not what it claims
  BadMagic,
  Truncated,
  OutOfRange,
  BadValue,
  DigestMismatch,
  BadSignature,
  LimitExceeded,
  Mismatch,
  UnsafePath,
  Corrupt,
  NoPartitions,  ///< a package or folder that holds nothing a phone has a partition for
  // known, but not supported
  Unsupported,
  // reading or writing failed
  NotFound,
  Exists,
  Permission,
  NoSpace,
  Io,
  NoMemory,  ///< the system gave none; what a file asks for in vain is LimitExceeded
  Internal,  ///< a fault of Wexlo's own
  // a finding needs a person
  NoMatch,
  DoesNotFit,
  Unexplained,
  ForeignPatch,
  NoTarget,
  Ambiguous,
  NoWayBack,
  WouldRefuse,
  NeedsPerson,  ///< somebody has to agree, or to do something by hand
  // the phone refused, or the link to it was lost
  PhoneRefused,
  LinkLost,
  ReplyLost,  ///< the phone may have done what it was told, or not
  // stopped from outside
  Interrupted,
};

/// The code's spelling in JSON, e.g. "digest-mismatch".
[[nodiscard]] std::string_view code_name(ErrorCode code);

struct Error {
  ErrorCode code{};
  std::string message{};                  ///< what went wrong, one clause, no full stop
  std::string file{};                     ///< path, or `archive!member`
  std::optional<std::uint64_t> offset{};  ///< bytes from the start of `file`
  std::string expected{}, found{};        ///< both sides, where there are two
  std::string hint{};                     ///< what the user can do next
  std::string_view section{};             ///< of an image, where it is about one; a literal
};

template <class T>
using Result = std::expected<T, Error>;
using Status = Result<void>;

/// Shorthand for returning a failure from a function that gives a Result.
[[nodiscard]] inline std::unexpected<Error> fail(Error error) {
  return std::unexpected<Error>(std::move(error));
}

/// Adds the file's name to an error that does not carry one yet; the cause is never reworded.
[[nodiscard]] Error in_file(Error error, std::string_view file);

/// Shifts the error's offset by `base`: a parser inside a container counts from its own start.
[[nodiscard]] Error at_base(Error error, std::uint64_t base);

/// The whole error as one paragraph for people:
/// `FILE: at 0x10: MESSAGE: expected A, found B. HINT`
[[nodiscard]] std::string describe(const Error& error);

/// An error for a failed system call, from `errno`'s value.
[[nodiscard]] Error io_error(int errno_value, std::string_view doing, std::string_view file);

}  // namespace wexlo

#define WEXLO_CAT2(a, b) a##b
#define WEXLO_CAT(a, b) WEXLO_CAT2(a, b)
/// `WEXLO_TRY(auto x, f());` takes the value of a Result, or returns its error from here.
#define WEXLO_TRY(declaration, ...)                                          \
  auto WEXLO_CAT(result_, __LINE__) = (__VA_ARGS__);                         \
  if (!WEXLO_CAT(result_, __LINE__))                                         \
    return std::unexpected(std::move(WEXLO_CAT(result_, __LINE__)).error()); \
  declaration = std::move(*WEXLO_CAT(result_, __LINE__))
/// `WEXLO_CHECK(f());` returns the error of a Status (or Result) from here, if it has one.
#define WEXLO_CHECK(...)                                  \
  do {                                                    \
    if (auto status_ = (__VA_ARGS__); !status_)           \
      return std::unexpected(std::move(status_).error()); \
  } while (false)
