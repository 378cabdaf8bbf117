#include "archive/newc.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <numeric>

namespace wexlo::newc {
namespace {

constexpr std::size_t kMagicSize = 6;
constexpr std::size_t kDigits = 8;
constexpr std::size_t kFields = 13;

constexpr std::array<std::string_view, kFields> kFieldNames{
    "ino",      "mode",     "uid",       "gid",       "nlink",    "mtime", "filesize",
    "devmajor", "devminor", "rdevmajor", "rdevminor", "namesize", "check"};

constexpr std::size_t field_at(std::size_t index) {
  return kMagicSize + index * kDigits;
}

std::size_t padding(std::size_t size) {
  return (4 - size % 4) % 4;
}

bool has_letters(const std::array<char, kHeaderSize>& header, char first, char last) {
  return std::any_of(header.begin() + kMagicSize, header.end(),
                     [=](char c) { return c >= first && c <= last; });
}

bool has_magic(View at) {
  const auto text = as_text(at);
  return text.starts_with("070701") || text.starts_with("070702");
}

Status check_fields(std::string_view header, std::size_t base) {
  for (std::size_t i = 0; i < kFields; ++i) {
    const auto digits = header.substr(field_at(i), kDigits);
    const bool hex = std::ranges::all_of(digits, [](unsigned char c) { return std::isxdigit(c); });
    if (!hex)
      return fail({.code = ErrorCode::BadValue,
                   .message = fmt::format("cpio field {} is not a number", kFieldNames[i]),
                   .offset = base + field_at(i),
                   .expected = "8 hex digits",
                   .found = fmt::format("\"{}\"", std::string(digits)),
                   .hint = "The ramdisk is damaged, or decoded with the wrong method."});
  }
  return {};
}

}  // namespace

Entry Entry::make(std::string name, std::uint32_t mode, Blob data, bool upper_case) {
  Entry entry;
  entry.made_ = true;
  entry.header_.fill('0');
  std::ranges::copy(std::string_view("070701"), entry.header_.begin());
  entry.upper_ = upper_case;
  entry.set(Field::Mode, mode);
  entry.set(Field::Nlink, (mode & TypeMask) == Directory ? 2 : 1);
  entry.rename(std::move(name));
  entry.set_data(std::move(data));
  entry.set(Field::Check, 0);
  return entry;
}

std::uint32_t Entry::get(Field field) const {
  const char* at = header_.data() + field_at(static_cast<std::size_t>(field));
  std::uint32_t value = 0;
  std::from_chars(at, at + kDigits, value, 16);  // parse() has checked the digits
  return value;
}

void Entry::set(Field field, std::uint32_t value) {
  if (get(field) == value) return;
  const auto text = upper_ ? fmt::format("{:08X}", value) : fmt::format("{:08x}", value);
  std::ranges::copy(text, header_.begin() + static_cast<std::ptrdiff_t>(
                                                field_at(static_cast<std::size_t>(field))));
}

void Entry::rename(std::string name) {
  name_ = std::move(name);
  set(Field::NameSize, static_cast<std::uint32_t>(name_.size() + 1));
  name_tail_.assign(1 + padding(kHeaderSize + name_.size() + 1), std::byte{0});
}

void Entry::set_data(Blob data) {
  data_ = std::move(data);
  set(Field::FileSize, static_cast<std::uint32_t>(data_.size()));
  data_tail_ = Blob(Bytes(padding(data_.size())));
  renew_sum();
}

/// Sums are of files; a link has none, unless its writer gave it one.
void Entry::renew_sum() {
  if (header_[kMagicSize - 1] != '2' || (type() != Regular && get(Field::Check) == 0)) return;
  const View bytes = data_.view();
  set(Field::Check, std::accumulate(bytes.begin(), bytes.end(), std::uint32_t{0},
                                    [](std::uint32_t sum, std::byte b) {
                                      return sum + std::to_integer<std::uint32_t>(b);
                                    }));
}

void give_sums(Archive& archive) {
  const bool sums = std::ranges::any_of(archive.entries, [](const Entry& entry) {
    return !entry.made_ && entry.header_[kMagicSize - 1] == '2';
  });
  if (!sums) return;
  for (Entry& entry : archive.entries) {
    if (!entry.made_ || entry.header_[kMagicSize - 1] == '2') continue;
    entry.header_[kMagicSize - 1] = '2';
    entry.renew_sum();
  }
}

namespace {

Error no_entry(View bytes, std::size_t at) {
  return {.code = ErrorCode::BadMagic,
          .message = "no cpio entry here",
          .offset = at,
          .expected = "070701 or 070702",
          .found = hex(bytes.subspan(at, std::min<std::size_t>(6, bytes.size() - at))),
          .hint = "The ramdisk is damaged, or of a kind Wexlo does not know."};
}

Error too_many(std::size_t at) {
  return {.code = ErrorCode::LimitExceeded,
          .message = "the cpio archive has too many entries",
          .offset = at,
          .expected = fmt::format("at most {}", kMaxEntries),
          .hint = "No phone's ramdisk has that many: check where the file is from."};
}

}  // namespace

bool looks_like_newc(View start) {
  return has_magic(start);
}

Result<Archive> parse(const Blob& blob, std::string_view file) {
  const View bytes = blob.view();
  const auto located = [&](Error error) { return fail(in_file(std::move(error), file)); };
  Archive archive;
  std::size_t at = 0;
  bool between = true;  // before the first entry and after a trailer anything may follow
  while (at < bytes.size()) {
    if (!has_magic(bytes.subspan(at)) || at % 4 != 0) {
      if (between && !archive.entries.empty()) break;
      return located(no_entry(bytes, at));
    }
    if (archive.entries.size() == kMaxEntries) return located(too_many(at));
    const std::size_t begin = at;
    const auto take = [&](std::size_t count, std::string_view what) -> Result<View> {
      WEXLO_TRY(const View part, slice(bytes, at, count, what));
      at += count;
      return part;
    };
    Entry entry;
    auto header = take(kHeaderSize, "cpio header");
    if (!header) return located(std::move(header).error());
    std::ranges::copy(as_text(*header), entry.header_.begin());
    entry.upper_ = has_letters(entry.header_, 'A', 'F');
    if (auto good = check_fields(as_text(*header), begin); !good)
      return located(std::move(good).error());
    const std::size_t name_size = entry.get(Field::NameSize);
    if (name_size == 0 || name_size > kMaxName)
      return located({.code = ErrorCode::BadValue,
                      .message = "cpio namesize is out of range",
                      .offset = begin + field_at(static_cast<std::size_t>(Field::NameSize)),
                      .expected = fmt::format("1 to {}", kMaxName),
                      .found = fmt::format("{}", name_size)});
    auto name = take(name_size, "cpio name");
    if (!name) return located(std::move(name).error());
    entry.name_ = until_nul(*name);
    const std::size_t name_pad = std::min(padding(kHeaderSize + name_size), bytes.size() - at);
    entry.name_tail_ = to_bytes(bytes.subspan(begin + kHeaderSize + entry.name_.size(),
                                              name_size - entry.name_.size() + name_pad));
    at += name_pad;
    const std::size_t data_at = at;
    auto data = take(entry.get(Field::FileSize), "cpio data");
    if (!data) return located(std::move(data).error());
    entry.data_ = blob.part(data_at, data->size());
    std::size_t end = std::min(bytes.size(), at + padding(data->size()));
    between = entry.is_trailer();
    while (between && end < bytes.size() && bytes[end] == std::byte{0})
      ++end;
    entry.data_tail_ = blob.part(at, end - at);
    at = end;
    archive.entries.push_back(std::move(entry));
  }
  if (std::ranges::any_of(archive.entries, &Entry::upper_case))
    for (Entry& entry : archive.entries)
      entry.upper_ |= !has_letters(entry.header_, 'a', 'f');
  archive.tail = blob.rest(at);
  return archive;
}

bool same(const Archive& a, const Archive& b) {
  const auto alike = [](View x, View y) {
    // What was not edited still is the same memory.
    return (x.data() == y.data() && x.size() == y.size()) || equal(x, y);
  };
  return alike(a.tail, b.tail) &&
         std::ranges::equal(a.entries, b.entries, [&](const Entry& x, const Entry& y) {
           return x.header_ == y.header_ && x.name_ == y.name_ && x.name_tail_ == y.name_tail_ &&
                  alike(x.data_, y.data_) && alike(x.data_tail_, y.data_tail_);
         });
}

void write(Bytes& out, const Archive& archive) {
  const std::size_t begin = out.size();
  for (const Entry& entry : archive.entries) {
    // The last one of a stock archive may have ended without its padding.
    out.resize(begin + align_up(out.size() - begin, 4));
    append(out, std::string_view(entry.header_.data(), entry.header_.size()));
    append(out, entry.name_);
    append(out, View(entry.name_tail_));
    append(out, entry.data_.view());
    append(out, entry.data_tail_.view());
  }
  append(out, archive.tail.view());
}

Bytes write(const Archive& archive) {
  Bytes out;
  std::size_t size = archive.tail.size();
  for (const Entry& entry : archive.entries)
    size += kHeaderSize + entry.name_.size() + entry.name_tail_.size() + entry.data_.size() +
            entry.data_tail_.size();
  out.reserve(size);
  write(out, archive);
  return out;
}

std::string place_of(std::string_view name) {
  std::string out;
  while (!name.empty()) {
    const auto cut = std::min(name.find('/'), name.size());
    const auto part = name.substr(0, cut);
    name.remove_prefix(std::min(cut + 1, name.size()));
    if (part.empty() || part == ".") continue;
    if (!out.empty()) out += '/';
    out += part;
  }
  return out;
}

}  // namespace wexlo::newc
