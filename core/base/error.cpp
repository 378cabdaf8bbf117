#include "base/error.hpp"

#include <fmt/format.h>

#include <cerrno>
#include <system_error>

namespace wexlo {

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

namespace {

/// The usual reasons in plain words; the system's own for the others.
std::string reason(int errno_value) {
  switch (errno_value) {
    case ENOENT: return "there is no such file or folder";
    case ENOTDIR: return "a part of the path is a file, not a folder";
    case EACCES:
    case EPERM: return "permission denied";
    case EROFS: return "the disk is read-only";
    case ENOSPC: return "the disk is full";
    default: return std::generic_category().message(errno_value);
  }
}

}  // namespace

Error io_error(int errno_value, std::string_view doing, std::string_view file) {
  Error error{.code = ErrorCode::Io,
              .message = fmt::format("{}: {}", doing, reason(errno_value)),
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
