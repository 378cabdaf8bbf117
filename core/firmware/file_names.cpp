#include "firmware/file_names.hpp"

#include <algorithm>
#include <array>
#include <cctype>
#include <charconv>

#include "archive/bundle.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

constexpr std::array<std::string_view, 12> kImageEnds{".img",   ".image", ".raw",  ".simg",
                                                      ".bin",   ".mbn",   ".elf",  ".ext4",
                                                      ".erofs", ".f2fs",  ".melf", ".dump"};
constexpr std::array<std::string_view, 8> kArchiveEnds{".zip", ".tar",     ".md5", ".tgz",
                                                       ".ota", ".payload", ".app", ".pac"};
constexpr std::array<std::string_view, 10> kPackedEnds{".lz4", ".gz",   ".xz", ".zst", ".zstd",
                                                       ".bz2", ".lzma", ".br", ".z",   ".lzo"};
/// What says of a file how it was made, not what it is for: `boot-sign.img`, `super_sparse.img`.
constexpr std::array<std::string_view, 9> kMarks{"-sign",   "_sign",     "-signed",
                                                 "_signed", "-verified", "_verified",
                                                 "_sparse", "-sparse",   ".sparse"};
constexpr std::array<std::string_view, 7> kPieceWords{"sparsechunk", "chunk", "piece", "part",
                                                      "split",       "seg",   "sparse"};

/// Takes one of the endings off, whatever its case.
template <std::size_t N>
std::string_view strip(std::string_view& name, const std::array<std::string_view, N>& ends) {
  const std::string small = lower_case(name);
  for (const std::string_view end : ends)
    if (small.ends_with(end) && name.size() > end.size()) {
      name.remove_suffix(end.size());
      return end;
    }
  return {};
}

bool is_mark(char c) {
  return c == '.' || c == '_' || c == '-';
}

/// `base` MARK [WORD [MARK]] DIGITS; the base keeps its own image ending for the caller.
struct Numbered {
  std::string_view base;
  unsigned number = 0;
  bool word = false;
};

std::optional<Numbered> split_number(std::string_view name) {
  std::size_t digits = 0;
  while (digits < name.size() &&
         std::isdigit(static_cast<unsigned char>(name[name.size() - 1 - digits])))
    ++digits;
  if (digits == 0 || digits > 3 || digits == name.size()) return std::nullopt;
  Numbered out;
  std::from_chars(name.data() + name.size() - digits, name.data() + name.size(), out.number);
  name.remove_suffix(digits);
  bool mark = is_mark(name.back());
  if (mark) name.remove_suffix(1);
  const std::string small = lower_case(name);
  for (const std::string_view word : kPieceWords)
    if (small.ends_with(word) && name.size() > word.size() + 1 &&
        is_mark(name[name.size() - word.size() - 1])) {
      name.remove_suffix(word.size() + 1);
      out.word = mark = true;
      break;
    }
  if (!mark || name.empty()) return std::nullopt;
  out.base = name;
  return out;
}

std::string fit(std::string_view name) {
  std::string out(name.substr(0, 64));
  for (char& c : out)
    if (!std::isalnum(static_cast<unsigned char>(c)) && c != '_' && c != '-' && c != '.') c = '_';
  while (out.starts_with('.'))
    out.erase(0, 1);
  return out.empty() ? "image" : out;
}

std::optional<Compression> without_magic(std::string_view end) {
  if (end == ".br") return Compression::Brotli;
  if (end == ".lzma") return Compression::Lzma;
  return std::nullopt;
}

}  // namespace

FileName read_file_name(std::string_view path) {
  FileName out;
  std::string_view name = base_name(path);
  const std::string_view archive = strip(name, kArchiveEnds);
  const std::string_view packed = archive.empty() ? strip(name, kPackedEnds) : std::string_view();
  out.packed = without_magic(packed);
  out.says_packed = !packed.empty();
  if (!archive.empty()) {
    strip(name, kArchiveEnds);  // `.tar.md5`
    out.archive = true;
  } else if (!packed.empty() && lower_case(name).ends_with(".tar")) {
    name.remove_suffix(4);
    out.archive = true;
  }
  const std::string_view image = strip(name, kImageEnds);
  out.image = !image.empty();
  if (const auto numbered = split_number(name); numbered && !out.archive) {
    std::string_view base = numbered->base;
    const bool inner = !strip(base, kImageEnds).empty();
    // `boot_1` alone is a name; an ending on either side makes it a file of a set.
    if (out.image || inner || numbered->word) {
      out.number = numbered->number;
      out.number_is_sure = numbered->word || (inner && !out.image);
      out.image = true;
      out.set = fit(base);
      if (out.number_is_sure || inner) name = base;
    }
  }
  if (out.image && !out.number) strip(name, kMarks);
  out.partition = fit(name);
  return out;
}

}  // namespace wexlo
