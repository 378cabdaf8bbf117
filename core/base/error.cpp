#include "base/error.hpp"

#include <fmt/format.h>

#include <cerrno>
#include <system_error>

namespace wexlo {

std::string_view code_name(ErrorCode code) {
  switch (code) {
    case ErrorCode::Usage: return "usage";
    case ErrorCode::BadMagic: return "bad-magic";
    case ErrorCode::Truncated: return "truncated";
    case ErrorCode::OutOfRange: return "out-of-range";
    case ErrorCode::BadValue: return "bad-value";
    case ErrorCode::DigestMismatch: return "digest-mismatch";
    case ErrorCode::BadSignature: return "bad-signature";
    case ErrorCode::LimitExceeded: return "limit-exceeded";
    case ErrorCode::Mismatch: return "mismatch";
    case ErrorCode::UnsafePath: return "unsafe-path";
    case ErrorCode::Corrupt: return "corrupt";
    case ErrorCode::NoPartitions: return "no-partitions";
    case ErrorCode::Unsupported: return "unsupported";
    case ErrorCode::NotFound: return "not-found";
    case ErrorCode::Exists: return "exists";
    case ErrorCode::Permission: return "permission";
    case ErrorCode::NoSpace: return "no-space";
    case ErrorCode::Io: return "io";
    case ErrorCode::NoMemory: return "no-memory";
    case ErrorCode::Internal: return "internal";
    case ErrorCode::NoMatch: return "no-match";
    case ErrorCode::DoesNotFit: return "does-not-fit";
    case ErrorCode::Unexplained: return "unexplained-change";
    case ErrorCode::ForeignPatch: return "foreign-patch";
    case ErrorCode::NoTarget: return "no-target";
    case ErrorCode::Ambiguous: return "ambiguous";
    case ErrorCode::NoWayBack: return "no-way-back";
    case ErrorCode::WouldRefuse: return "would-refuse";
    case ErrorCode::PhoneRefused: return "phone-refused";
    case ErrorCode::LinkLost: return "link-lost";
    case ErrorCode::Interrupted: return "interrupted";
  }
  return "unknown";
}

Error in_file(Error error, std::string_view file) {
  if (error.file.empty()) error.file = file;
  return error;
}

Error at_base(Error error, std::uint64_t base) {
  // An error that names its own file already counts from that file's start.
  if (error.file.empty() && error.offset) *error.offset += base;
  return error;
}

namespace {

/// A value that is as long as a page hides the sentence that it stands in.
std::string shortened(const std::string& text) {
  constexpr std::size_t kMost = 400, kKept = 120;
  if (text.size() <= kMost) return text;
  std::size_t end = kKept;
  while (end > 0 && (static_cast<unsigned char>(text[end]) & 0xc0) == 0x80)
    --end;
  return fmt::format("{}… ({} characters)", text.substr(0, end), text.size());
}

}  // namespace

std::string describe(const Error& error) {
  std::string text;
  if (!error.file.empty()) text += shortened(error.file) + ": ";
  if (error.offset) text += fmt::format("at 0x{:x}: ", *error.offset);
  text += shortened(error.message);
  if (!error.expected.empty()) text += ": expected " + shortened(error.expected);
  if (!error.found.empty())
    text += (error.expected.empty() ? ": found " : ", found ") + shortened(error.found);
  text += ".";
  if (!error.hint.empty()) text += " " + error.hint;
  return text;
}

Error io_error(int errno_value, std::string_view doing, std::string_view file) {
  Error error{.code = ErrorCode::Io,
              .message = fmt::format("{}: {}", doing, std::generic_category().message(errno_value)),
              .file = std::string(file)};
  switch (errno_value) {
    case ENOENT:
    case ENOTDIR:
      error.code = ErrorCode::NotFound;
      error.hint = "Check the spelling of the path.";
      break;
    case EACCES:
    case EPERM:
    case EROFS:
      error.code = ErrorCode::Permission;
      error.hint = "Check who owns the file and its folder.";
      break;
    case ENOSPC:
    case EDQUOT:
    case EFBIG:
      error.code = ErrorCode::NoSpace;
      error.hint = "Free some space, or write to another disk.";
      break;
    case EEXIST:
      error.code = ErrorCode::Exists;
      error.hint = "Give another name, or --force to replace it.";
      break;
    case EISDIR: error.hint = "A file is wanted here, this is a folder."; break;
    case EMFILE:
    case ENFILE:
      error.hint = "Too many files are open: close other programs, or raise ulimit -n.";
      break;
    case ENAMETOOLONG: error.hint = "Give a shorter name."; break;
    case ENOMEM:
      error.code = ErrorCode::NoMemory;
      error.hint = "Close other programs, or use a smaller --jobs.";
      break;
    default: error.hint = "Try again; if it stays, look at the disk.";
  }
  return error;
}

}  // namespace wexlo
