#include "firmware/listing.hpp"

#include <tinyxml2.h>

#include <algorithm>

#include "base/contains.hpp"
#include "firmware/listing_lines.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

using listing::Fields;
using listing::Meaning;
using listing::meaning_of;
using listing::number;
using listing::plain;
using listing::promise_of;
using listing::slashed;
using listing::trimmed;

bool ends_as_any(std::string_view name, std::initializer_list<std::string_view> ends) {
  return std::ranges::any_of(ends, [&](std::string_view end) { return ends_as(name, end); });
}

class ListingReader {
 public:
  ListingReader(std::string_view path, const listing::IsFile& is_file)
      : by_(base_name(path)),
        is_file_(is_file),
        script_(ends_as_any(by_, {".sh", ".bat", ".cmd"})),
        settings_(ends_as_any(by_, {".ini", ".cfg", ".toml", ".yaml", ".yml"})),
        table_(by_, is_file) {}

  Listing read(std::string_view text) {
    if (text.starts_with("\xef\xbb\xbf")) text.remove_prefix(3);
    const std::string_view first = trimmed(text.substr(0, 512));
    script_ = script_ || first.starts_with("#!") || first.starts_with("@echo");
    if (first.starts_with('<'))
      xml(text);
    else
      lines(text);
    return std::move(out_);
  }

 private:
  void xml(std::string_view text) {
    tinyxml2::XMLDocument document;
    if (document.Parse(text.data(), text.size()) != tinyxml2::XML_SUCCESS) return;
    if (const auto* root = document.RootElement()) element(*root, 0);
  }

  /// Attributes and leaves of one element are one record, whichever the dialect prefers.
  void element(const tinyxml2::XMLElement& at, int depth) {
    constexpr int kDeepest = 32;
    if (depth > kDeepest) return;
    Fields fields;
    for (const auto* one = at.FirstAttribute(); one != nullptr; one = one->Next())
      fields.emplace_back(plain(one->Name()), std::string(trimmed(one->Value())));
    for (const auto* child = at.FirstChildElement(); child != nullptr;
         child = child->NextSiblingElement()) {
      const bool leaf = child->FirstChildElement() == nullptr;
      if (leaf && child->GetText() != nullptr)
        fields.emplace_back(plain(child->Name()), std::string(trimmed(child->GetText())));
      // `<phone_model model="…"/>`: the element's name says what its one attribute is.
      if (leaf && child->FirstAttribute() != nullptr)
        facts({{plain(child->Name()), std::string(trimmed(child->FirstAttribute()->Value()))}});
      element(*child, depth + 1);
    }
    // `<boot>boot.img</boot>` has no key for the partition: the element is it.
    if (at.FirstAttribute() == nullptr && fields.empty() && at.GetText() != nullptr &&
        meaning_of(plain(at.Name())) == Meaning::None && is_file_(slashed(trimmed(at.GetText()))))
      fields = {{"partition", at.Name()}, {"file", std::string(trimmed(at.GetText()))}};
    record(fields);
  }

  void lines(std::string_view text) {
    Fields fields;
    const auto flush = [&] { record(std::exchange(fields, {})); };
    while (!text.empty()) {
      const std::size_t end = std::min(text.find('\n'), text.size());
      const std::string_view whole = text.substr(0, end);
      std::string_view line = trimmed(whole);
      text.remove_prefix(std::min(end + 1, text.size()));
      if (is_comment(line)) continue;
      const bool item = line.starts_with("- ");
      if (item) line = trimmed(line.substr(2));
      if (line.empty() || line.starts_with('[') || item) flush();
      if (line.empty() || line.starts_with('[')) {
        table_.end_of_table();
        header_.clear();
        continue;
      }
      if (const auto pair = key_value(line)) {
        table_.end_of_table();
        if (names_again(fields, pair->first)) flush();
        fields.push_back(*pair);
        continue;
      }
      flush();
      if (!columns(line)) words(line, whole);
    }
    flush();
    table_.end_of_table();
    std::ranges::move(table_.take(), std::back_inserter(out_.rows));
  }

  static bool is_comment(std::string_view line) {
    if (line.starts_with('#') || line.starts_with("::") || line.starts_with("//")) return true;
    const std::string start = plain(line.substr(0, line.find_first_of(" \t")));
    return start == "rem" || start == "echo";
  }

  static bool names_again(const Fields& fields, std::string_view key) {
    return meaning_of(key) == Meaning::Partition &&
           std::ranges::any_of(
               fields, [](const auto& one) { return meaning_of(one.first) == Meaning::Partition; });
  }

  std::optional<std::pair<std::string, std::string>> key_value(std::string_view line) {
    // A script's way of naming a value.
    for (const std::string_view word : {"set ", "export "})
      if (line.starts_with(word)) line = trimmed(line.substr(word.size()));
    const std::size_t at = line.find_first_of(":=");
    if (at == line.npos || at == 0) return std::nullopt;
    const std::string key = plain(line.substr(0, at));
    const std::string_view value = trimmed(line.substr(at + 1));
    if (meaning_of(key) != Meaning::None) return std::pair(key, std::string(value));
    if (is_file_(slashed(value))) return std::nullopt;
    // Any other key may stand among those that are known.
    return line.substr(0, at).find(' ') == line.npos
               ? std::optional(std::pair(key, std::string(value)))
               : std::nullopt;
  }

  /// A line under a head of columns (`partition,file,start`), or that head. False: neither.
  bool columns(std::string_view line) {
    const std::size_t mark = line.find_first_of(",;|\t");
    const char parted_by = mark == line.npos ? ' ' : line[mark];
    std::vector<std::string> cells;
    for (std::string_view rest = line;;) {
      const std::size_t end = std::min(rest.find(parted_by), rest.size());
      const std::string_view cell = trimmed(rest.substr(0, end));
      if (!cell.empty() || parted_by != ' ') cells.emplace_back(cell);
      if (end == rest.size()) break;
      rest.remove_prefix(end + 1);
    }
    const auto means = [&](Meaning meaning) {
      return contains(cells, meaning,
                      [](const std::string& cell) { return meaning_of(plain(cell)); });
    };
    if (means(Meaning::Partition) && means(Meaning::File)) {
      header_.clear();
      for (const std::string& cell : cells)
        header_.push_back(plain(cell));
      return true;
    }
    if (header_.empty() || cells.size() != header_.size()) return false;
    Fields fields;
    for (std::size_t i = 0; i < cells.size(); ++i)
      fields.emplace_back(header_[i], cells[i]);
    record(fields);
    return true;
  }

  /// @param whole  the line with the quotes around it
  void words(std::string_view line, std::string_view whole) {
    auto commanded = listing::command_rows(whole, script_, is_file_);
    if (!commanded.empty()) {
      table_.end_of_table();
      if (script_) out_.commands += commanded.size();
      std::ranges::move(commanded, std::back_inserter(out_.rows));
    } else if (auto row = settings_ ? setting(line) : std::nullopt) {
      out_.rows.push_back(std::move(*row));
    } else {
      table_.add(line);
    }
  }

  /// `boot = boot.img` in a file of settings: the key is the partition itself.
  std::optional<ListingRow> setting(std::string_view line) const {
    const std::size_t at = line.find_first_of(":=");
    if (at == line.npos) return std::nullopt;
    ListingRow row{.partition = listing::partition_of(trimmed(line.substr(0, at))),
                   .file = slashed(trimmed(line.substr(at + 1)))};
    return !row.partition.empty() && is_file_(row.file) ? std::optional(std::move(row))
                                                        : std::nullopt;
  }

  /// What a record that is no row says of the build.
  void facts(const Fields& fields) {
    // Places of a storage have its parts for regions.
    const bool of_storage = std::ranges::any_of(fields, [](const auto& one) {
      const Meaning meaning = meaning_of(one.first);
      return meaning == Meaning::Start || meaning == Meaning::StartSector;
    });
    const auto set = [](std::string& into, const std::string& value) {
      if (into.empty() && value.size() < 200) into = value;
    };
    for (const auto& [key, value] : fields) {
      if (value.empty()) continue;
      switch (meaning_of(key)) {
        case Meaning::Device: set(out_.build.device, value); break;
        case Meaning::Build:
          set(std::ranges::count(value, '/') >= 4 ? out_.build.fingerprint : out_.build.incremental,
              value);
          break;
        case Meaning::Fingerprint: set(out_.build.fingerprint, value); break;
        case Meaning::Region:
          if (!of_storage && !listing::is_storage(value)) set(out_.build.region, value);
          break;
        case Meaning::Baseband: set(out_.build.baseband, value); break;
        case Meaning::AntiRollback:
          if (!out_.build.anti_rollback) out_.build.anti_rollback = number(value);
          break;
        default: break;
      }
    }
  }

  void record(const Fields& fields) {
    ListingRow row;
    std::optional<listing::Sector> first;
    std::optional<std::uint64_t> sectors, file_sector, kib;
    std::uint64_t unit = 512;
    bool writes = true;
    for (const auto& [key, value] : fields) {
      switch (meaning_of(key)) {
        case Meaning::Partition: row.partition = listing::partition_of(value); break;
        case Meaning::File:
          if (row.file.empty() || !is_file_(row.file)) row.file = slashed(value);
          break;
        case Meaning::Digest:
          if (auto promise = promise_of(value, by_)) row.promises.push_back(std::move(*promise));
          break;
        case Meaning::Start: row.start = number(value); break;
        case Meaning::StartSector: first = listing::sector(value); break;
        case Meaning::Length: row.length = number(value); break;
        case Meaning::LengthSector: sectors = number(value); break;
        case Meaning::LengthKib: kib = number(value); break;
        case Meaning::SectorSize: unit = number(value).value_or(unit); break;
        case Meaning::FileSector: file_sector = number(value); break;
        case Meaning::Operation: writes = is_writing(value); break;
        default: break;
      }
    }
    if (unit == 0 || unit > 65536) unit = 512;
    const auto bytes = [&](std::optional<std::uint64_t> count, std::uint64_t size) {
      return count && *count <= kMost / size ? std::optional(*count * size) : std::nullopt;
    };
    if (first && first->number <= kMost / unit)
      row.place = SectorPlace{.first = *first,
                              .sector_size = static_cast<std::uint32_t>(unit),
                              .sectors = bytes(sectors, unit) ? sectors : std::nullopt,
                              .file_offset = bytes(file_sector, unit).value_or(0)};
    const bool there = !row.file.empty() && is_file_(row.file);
    const bool piece = row.place && !row.file.empty() && !row.partition.empty();
    if (!there && !piece) return facts(fields);
    if (!writes) return;
    if (!row.place && sectors) row.length = bytes(sectors, unit);
    if (kib && !row.length) row.length = bytes(kib, 1024);
    out_.rows.push_back(std::move(row));
  }

  static bool is_writing(const std::string& operation) {
    const std::string what = plain(operation);
    return what.starts_with("flash") || what.starts_with("prog") || what.starts_with("write");
  }

  /// Bytes: no phone's storage is larger.
  static constexpr std::uint64_t kMost = std::uint64_t{1} << 44;

  std::string by_;
  const listing::IsFile& is_file_;
  bool script_ = false;    ///< its lines are commands
  bool settings_ = false;  ///< its lines are keys and values
  listing::TableLines table_;
  std::vector<std::string> header_;  ///< of the columns of a table, in their plain form
  Listing out_;
};

}  // namespace

bool may_be_listing(std::string_view path) {
  return ends_as_any(base_name(path),
                     {".xml",    ".txt", ".cfg",       ".csv",    ".ini",  ".list", ".lst",
                      ".md5",    ".sha", ".sum",       ".sh",     ".bat",  ".cmd",  ".sha1",
                      ".sha256", "sums", ".sha256sum", ".md5sum", ".toml", ".yaml", ".yml"});
}

Listing read_listing(std::string_view text, std::string_view path,
                     const std::function<bool(std::string_view)>& is_file) {
  return ListingReader(path, is_file).read(text);
}

}  // namespace wexlo
