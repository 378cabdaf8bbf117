#include "firmware/listing.hpp"

#include <tinyxml2.h>

#include <algorithm>
#include <array>
#include <cctype>

#include "text/text.hpp"

namespace wexlo {
namespace {

using Fields = std::vector<std::pair<std::string, std::string>>;  ///< key in its plain form, value

/// Lower case, letters and digits only: `SECTOR_SIZE_IN_BYTES` and `sectorSizeInBytes` are one.
std::string plain(std::string_view key) {
  std::string out;
  for (const unsigned char c : key)
    if (std::isalnum(c)) out += static_cast<char>(std::tolower(c));
  return out;
}

enum class Meaning {
  None,
  Partition,
  File,
  Digest,
  Start,
  StartSector,
  Length,
  LengthSector,
  LengthKib,
  SectorSize,
  FileSector,
  Operation,
  Device,
  Build,
  Region,
  Baseband,
  Fingerprint,
  AntiRollback
};

struct Word {
  std::string_view key;
  Meaning meaning;
};
/// The keys that were seen in the field, in their plain form.
constexpr std::array kWords{
    Word{"partition", Meaning::Partition},
    Word{"partitionname", Meaning::Partition},
    Word{"partname", Meaning::Partition},
    Word{"part", Meaning::Partition},
    Word{"label", Meaning::Partition},
    Word{"target", Meaning::Partition},
    Word{"name", Meaning::Partition},
    Word{"file", Meaning::File},
    Word{"filename", Meaning::File},
    Word{"image", Meaning::File},
    Word{"imagefile", Meaning::File},
    Word{"imagename", Meaning::File},
    Word{"img", Meaning::File},
    Word{"path", Meaning::File},
    Word{"source", Meaning::File},
    Word{"md5", Meaning::Digest},
    Word{"md5sum", Meaning::Digest},
    Word{"sha1", Meaning::Digest},
    Word{"sha1sum", Meaning::Digest},
    Word{"sha256", Meaning::Digest},
    Word{"sha256sum", Meaning::Digest},
    Word{"sha512", Meaning::Digest},
    Word{"digest", Meaning::Digest},
    Word{"checksum", Meaning::Digest},
    Word{"hash", Meaning::Digest},
    Word{"start", Meaning::Start},
    Word{"offset", Meaning::Start},
    Word{"startbyte", Meaning::Start},
    Word{"startbytehex", Meaning::Start},
    Word{"startaddr", Meaning::Start},
    Word{"startaddress", Meaning::Start},
    Word{"linearstartaddr", Meaning::Start},
    Word{"physicalstartaddr", Meaning::Start},
    Word{"address", Meaning::Start},
    Word{"startsector", Meaning::StartSector},
    Word{"firstsector", Meaning::StartSector},
    Word{"length", Meaning::Length},
    Word{"size", Meaning::Length},
    Word{"bytes", Meaning::Length},
    Word{"partitionsize", Meaning::Length},
    Word{"numpartitionsectors", Meaning::LengthSector},
    Word{"sectors", Meaning::LengthSector},
    Word{"sizeinkb", Meaning::LengthKib},
    Word{"sectorsizeinbytes", Meaning::SectorSize},
    Word{"sectorsize", Meaning::SectorSize},
    Word{"filesectoroffset", Meaning::FileSector},
    Word{"operation", Meaning::Operation},
    Word{"action", Meaning::Operation},
    Word{"model", Meaning::Device},
    Word{"phonemodel", Meaning::Device},
    Word{"device", Meaning::Device},
    Word{"codename", Meaning::Device},
    Word{"product", Meaning::Device},
    Word{"project", Meaning::Device},
    Word{"softwareversion", Meaning::Build},
    Word{"buildid", Meaning::Build},
    Word{"buildnumber", Meaning::Build},
    Word{"fingerprint", Meaning::Fingerprint},
    Word{"buildfingerprint", Meaning::Fingerprint},
    Word{"region", Meaning::Region},
    Word{"variant", Meaning::Region},
    Word{"sku", Meaning::Region},
    Word{"carrier", Meaning::Region},
    Word{"customer", Meaning::Region},
    Word{"baseband", Meaning::Baseband},
    Word{"basebandversion", Meaning::Baseband},
    Word{"modemversion", Meaning::Baseband},
    Word{"antirollback", Meaning::AntiRollback},
    Word{"antirollbackversion", Meaning::AntiRollback},
    Word{"antiversion", Meaning::AntiRollback},
    Word{"antiver", Meaning::AntiRollback},
    Word{"currentantiver", Meaning::AntiRollback},
};

Meaning meaning_of(std::string_view key) {
  const auto at = std::ranges::find(kWords, key, &Word::key);
  return at == kWords.end() ? Meaning::None : at->meaning;
}

/// Decimal, 0x…, or with K, M, G behind it.
std::optional<std::uint64_t> number(std::string_view text) {
  const std::size_t end = std::min(text.find_first_not_of("0123456789abcdefABCDEFxX"), text.size());
  const auto whole = parse_number(text.substr(0, end));
  if (!whole) return std::nullopt;
  const std::uint64_t value = *whole;
  const std::string_view unit = text.substr(end);
  if (unit.empty() || unit == ".0") return value;
  const std::size_t at = std::string_view("KMG").find(static_cast<char>(std::toupper(unit[0])));
  if (at == std::string_view::npos || unit.size() > 3) return std::nullopt;
  const unsigned shift = 10 * (static_cast<unsigned>(at) + 1);
  return value <= (~std::uint64_t{0} >> shift) ? std::optional(value << shift) : std::nullopt;
}

bool is_hex(std::string_view text) {
  return std::ranges::all_of(text, [](unsigned char c) { return std::isxdigit(c); });
}

std::optional<Promise> promise_of(std::string_view value, std::string_view by) {
  const auto kind = digest_of_size(value.size() / 2);
  if (!kind || value.size() % 2 != 0 || !is_hex(value)) return std::nullopt;
  std::string lower(value);
  std::ranges::transform(lower, lower.begin(), [](unsigned char c) { return std::tolower(c); });
  return Promise{*kind, std::move(lower), std::string(by)};
}

std::string slashed(std::string_view path) {
  std::string out(path);
  std::ranges::replace(out, '\\', '/');
  if (out.starts_with("./")) out.erase(0, 2);
  return out;
}

std::string_view trimmed(std::string_view text) {
  constexpr std::string_view kBlank = " \t\r\n\"',;";
  const std::size_t begin = text.find_first_not_of(kBlank);
  if (begin == text.npos) return {};
  return text.substr(begin, text.find_last_not_of(kBlank) - begin + 1);
}

class ListingReader {
 public:
  ListingReader(std::string_view path, const std::function<bool(std::string_view)>& is_file)
      : by_(base_name(path)), is_file_(is_file) {}

  Listing read(std::string_view text) {
    if (text.starts_with("\xef\xbb\xbf")) text.remove_prefix(3);
    const std::string_view first = trimmed(text.substr(0, 512));
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
      std::string_view line = trimmed(text.substr(0, end));
      text.remove_prefix(std::min(end + 1, text.size()));
      if (line.starts_with('#') || line.starts_with("::") || line.starts_with("//")) continue;
      const bool item = line.starts_with("- ");
      if (item) line = trimmed(line.substr(2));
      if (line.empty() || line.starts_with('[') || item) flush();
      if (line.starts_with('[')) continue;
      if (const auto pair = key_value(line)) {
        const Meaning meaning = meaning_of(pair->first);
        const bool again =
            meaning == Meaning::Partition && std::ranges::any_of(fields, [](const auto& one) {
              return meaning_of(one.first) == Meaning::Partition;
            });
        if (again) flush();
        fields.push_back(*pair);
        continue;
      }
      flush();
      words(line);
    }
    flush();
  }

  std::optional<std::pair<std::string, std::string>> key_value(std::string_view line) const {
    // A script's way of naming a value.
    for (const std::string_view word : {"set ", "export "})
      if (line.starts_with(word)) line = trimmed(line.substr(word.size()));
    const std::size_t at = line.find_first_of(":=");
    if (at == line.npos || at == 0) return std::nullopt;
    const std::string key = plain(line.substr(0, at));
    const std::string_view value = trimmed(line.substr(at + 1));
    if (meaning_of(key) != Meaning::None) return std::pair(key, std::string(value));
    // `boot = boot.img`: the key is the partition itself.
    if (is_file_(slashed(value))) return std::nullopt;
    // Any other key may stand among those that are known.
    return line.substr(0, at).find(' ') == line.npos
               ? std::optional(std::pair(key, std::string(value)))
               : std::nullopt;
  }

  /// A line of columns: one is a file of the package, the one before it may be the partition.
  void words(std::string_view line) {
    std::string parted(line);
    for (char& c : parted)
      if (c == ',' || c == ';' || c == '=' || c == '|' || c == '\t' || c == '"' || c == '(' ||
          c == ')')
        c = ' ';
    const auto parts = split_words(parted);
    ListingRow row;
    std::vector<std::uint64_t> numbers;
    std::optional<std::size_t> file_at;
    for (std::size_t i = 0; i < parts.size(); ++i) {
      std::string_view word = parts[i];
      if (word.starts_with('*')) word.remove_prefix(1);  // sums of binary files
      constexpr std::string_view kHere = "%~dp0";        // a script's own folder
      if (word.starts_with(kHere)) word.remove_prefix(kHere.size());
      const std::string path = slashed(word);
      if (auto promise = promise_of(word, by_); promise && word.size() >= 32)
        row.promises.push_back(std::move(*promise));
      else if (!file_at && is_file_(path)) {
        file_at = i;
        row.file = path;
      } else if (file_at) {
        if (const auto value = number(word)) numbers.push_back(*value);
      }
    }
    if (!file_at) return;
    if (*file_at > 0 && row.promises.empty()) {
      const std::string_view before = parts[*file_at - 1];
      if (check_partition_name(before) && !number(before)) row.partition = before;
    }
    if (numbers.size() >= 2) {
      row.start = numbers[0];
      row.length = numbers[1];
    }
    out_.rows.push_back(std::move(row));
  }

  void facts(const Fields& fields) {
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
        case Meaning::Region: set(out_.build.region, value); break;
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
    std::uint64_t sector = 512;
    std::optional<std::uint64_t> start_sector, length_sectors, file_sector, kib;
    bool writes = true;
    for (const auto& [key, value] : fields) {
      switch (meaning_of(key)) {
        case Meaning::Partition: row.partition = value; break;
        case Meaning::File:
          if (row.file.empty() || !is_file_(row.file)) row.file = slashed(value);
          break;
        case Meaning::Digest:
          if (auto promise = promise_of(value, by_)) row.promises.push_back(std::move(*promise));
          break;
        case Meaning::Start: row.start = number(value); break;
        case Meaning::StartSector: start_sector = number(value); break;
        case Meaning::Length: row.length = number(value); break;
        case Meaning::LengthSector: length_sectors = number(value); break;
        case Meaning::LengthKib: kib = number(value); break;
        case Meaning::SectorSize: sector = number(value).value_or(sector); break;
        case Meaning::FileSector: file_sector = number(value); break;
        case Meaning::Operation: {
          const std::string what = plain(value);
          writes =
              what.starts_with("flash") || what.starts_with("prog") || what.starts_with("write");
          break;
        }
        default: break;
      }
    }
    if (row.file.empty() || !is_file_(row.file)) return facts(fields);
    if (!writes) return;
    constexpr std::uint64_t kMost = std::uint64_t{1} << 44;
    if (sector == 0 || sector > 65536) sector = 512;
    const auto bytes = [&](std::optional<std::uint64_t> count, std::uint64_t unit) {
      return count && *count <= kMost / unit ? std::optional(*count * unit) : std::nullopt;
    };
    if (start_sector && !row.start) row.start = bytes(start_sector, sector);
    if (length_sectors) row.length = bytes(length_sectors, sector);
    if (kib && !row.length) row.length = bytes(kib, 1024);
    if (file_sector && *file_sector > 0) {
      row.start = bytes(file_sector, sector);
      row.in_file = row.start.has_value();
    }
    if (!check_partition_name(row.partition)) row.partition.clear();
    out_.rows.push_back(std::move(row));
  }

  std::string by_;
  const std::function<bool(std::string_view)>& is_file_;
  Listing out_;
};

}  // namespace

bool may_be_listing(std::string_view path) {
  std::string name(base_name(path));
  std::ranges::transform(name, name.begin(), [](unsigned char c) { return std::tolower(c); });
  static constexpr std::string_view kEnds[] = {
      ".xml",       ".txt",    ".cfg", ".csv", ".ini",  ".list",   ".lst",
      ".md5",       ".sha",    ".sum", ".sh",  ".bat",  ".sha256", ".sha1",
      ".sha256sum", ".md5sum", "sums", ".cmd", ".toml", ".yaml",   ".yml"};
  return std::ranges::any_of(kEnds, [&](std::string_view end) { return name.ends_with(end); });
}

Listing read_listing(std::string_view text, std::string_view path,
                     const std::function<bool(std::string_view)>& is_file) {
  return ListingReader(path, is_file).read(text);
}

}  // namespace wexlo
