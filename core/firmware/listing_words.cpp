#include "firmware/listing_words.hpp"

#include <algorithm>
#include <array>
#include <cctype>

#include "firmware/firmware.hpp"
#include "text/text.hpp"

namespace wexlo::listing {
namespace {

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
    Word{"sparse", Meaning::Sparse},
    Word{"operation", Meaning::Operation},
    Word{"action", Meaning::Operation},
    Word{"model", Meaning::Device},
    Word{"phonemodel", Meaning::Device},
    Word{"device", Meaning::Device},
    Word{"codename", Meaning::Device},
    Word{"product", Meaning::Device},
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

bool is_hex(std::string_view text) {
  return std::ranges::all_of(text, [](unsigned char c) { return std::isxdigit(c); });
}

}  // namespace

std::string plain(std::string_view key) {
  std::string out = lower_case(key);
  std::erase_if(out, [](unsigned char c) { return std::isalnum(c) == 0; });
  return out;
}

Meaning meaning_of(std::string_view key) {
  const auto at = std::ranges::find(kWords, key, &Word::key);
  return at == kWords.end() ? Meaning::None : at->meaning;
}

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

std::optional<Promise> promise_of(std::string_view value, std::string_view by) {
  const auto kind = digest_of_size(value.size() / 2);
  if (!kind || value.size() % 2 != 0 || !is_hex(value)) return std::nullopt;
  std::string lower = lower_case(value);
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

std::optional<Sector> sector(std::string_view text) {
  if (const auto whole = number(text)) return Sector{*whole, false};
  constexpr std::string_view kEnd = "NUM_DISK_SECTORS";
  if (!text.starts_with(kEnd)) return std::nullopt;
  text.remove_prefix(kEnd.size());
  text = trimmed(text);
  if (!text.starts_with('-')) return std::nullopt;
  text = trimmed(text.substr(1));
  if (text.ends_with('.')) text.remove_suffix(1);
  const auto back = number(text);
  return back ? std::optional(Sector{*back, true}) : std::nullopt;
}

std::string partition_of(std::string_view word) {
  if (word.size() > 3 && lower_case(word).ends_with("_ab")) word.remove_suffix(3);
  if (!check_partition_name(word)) return {};
  std::string lower = lower_case(word);
  const std::string_view bare = without_slot(lower);
  return partition_class(bare) == PartitionClass::Other ? std::string(word) : lower;
}

bool is_storage(std::string_view word) {
  const std::string lower = lower_case(word);
  return std::ranges::any_of(
      std::array{"emmc", "ufs", "nand", "nor_", "spi", "sdmmc", "hw_storage", "raw_nand"},
      [&](const char* part) { return lower.starts_with(part); });
}

}  // namespace wexlo::listing
