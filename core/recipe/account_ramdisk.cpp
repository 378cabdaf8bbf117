/// The account of a ramdisk, entry by entry as a kernel would leave them.

#include <fmt/format.h>

#include "base/digest.hpp"
#include "recipe/account.hpp"

namespace wexlo {
namespace {

using newc::Entry;
using newc::Field;

/// One entry of one side: where it is, and the entry that has its content.
struct Place {
  const Entry* entry;
  const Entry* carrier;
  [[nodiscard]] View content() const { return carrier->data().view(); }
};

/// Alike to a kernel: everything but link numbers and where a link's data is stored.
bool alike(const Place& a, const Place& b) {
  for (const Field field :
       {Field::Mode, Field::Uid, Field::Gid, Field::Mtime, Field::RdevMajor, Field::RdevMinor})
    if (a.entry->get(field) != b.entry->get(field)) return false;
  return equal(a.content(), b.content());
}

using Places = std::map<std::string, Place>;

Places places(const Ramdisk& ramdisk, std::vector<std::string>& order) {
  Places out;
  for (std::size_t s = 0; s < ramdisk.segments.size(); ++s) {
    const auto& entries = ramdisk.segments[s].archive.entries;
    const auto carriers = content_carriers(ramdisk.segments[s].archive);
    for (std::size_t i = 0; i < entries.size(); ++i) {
      // Separators and doubled names count by their place in the order.
      const std::string place =
          entries[i].is_trailer() ? fmt::format("//end {}", s) : newc::place_of(entries[i].name());
      order.push_back(place);
      out[place] = {&entries[i], &entries[carriers[i]]};
    }
  }
  return out;
}

/// What the output's ramdisk counts from.
Result<Ramdisk> read_base(std::size_t index, const Blob& base, const Intent& intent,
                          const Context& context) {
  const auto opened = intent.opened.find(index);
  if (opened != intent.opened.end()) return reread_stock(*opened->second);
  return parse_ramdisk(base, decode_limit(context));
}

bool is_meant(const Intent::Meant& meant, const Places& now, const std::string& place) {
  const auto at = now.find(place);
  if (!meant.sha256) return at == now.end();
  return at != now.end() && *meant.sha256 == sha256_hex(at->second.content());
}

}  // namespace

Status account_ramdisk(const ReadRamdisk& output, const Blob& base, const Intent& intent,
                       std::vector<std::string>& entries, const Context& context) {
  const boot::RamdiskPart& part = output.part;
  static const Intent::Entries kNothing;
  const auto intended = intent.ramdisks.find(part.index);
  const Intent::Entries& meant = intended == intent.ramdisks.end() ? kNothing : intended->second;
  if (!output.ramdisk) return fail(*output.trouble);
  const Ramdisk& written = *output.ramdisk;
  WEXLO_TRY(const Ramdisk counted, read_base(part.index, base, intent, context));
  if (written.segments.size() != counted.segments.size() ||
      !equal(written.tail.view(), counted.tail.view()) ||
      written.compression() != counted.compression())
    return unexplained("the ramdisk's streams", part.offset);
  std::vector<std::string> order_now, order_old;
  const Places now = places(written, order_now), old = places(counted, order_old);
  // What was moved or put in anew stands behind all others, wherever it stood before.
  const auto set = [&](const std::string& place) {
    const auto at = meant.find(place);
    return at != meant.end() && at->second.sha256;
  };
  std::erase_if(order_now,
                [&](const std::string& place) { return !old.contains(place) || set(place); });
  std::erase_if(order_old,
                [&](const std::string& place) { return !now.contains(place) || set(place); });
  if (order_now != order_old) return unexplained("the order of the ramdisk's entries");
  for (const auto& [place, at] : now) {
    const auto before = old.find(place);
    if (before != old.end() && alike(at, before->second)) continue;
    const auto wanted = meant.find(place);
    if (wanted == meant.end() || !is_meant(wanted->second, now, place))
      return unexplained(fmt::format("ramdisk entry /{}", place));
    entries.push_back(fmt::format("{} /{}: {}", before == old.end() ? "added" : "changed", place,
                                  wanted->second.cause));
  }
  for (const auto& [place, at] : old) {
    if (now.contains(place)) continue;
    const auto wanted = meant.find(place);
    if (wanted == meant.end() || wanted->second.sha256)
      return unexplained(fmt::format("ramdisk entry /{} is gone", place));
    entries.push_back(fmt::format("removed /{}: {}", place, wanted->second.cause));
  }
  for (const auto& [place, wanted] : meant)
    if (!is_meant(wanted, now, place))
      return unexplained(fmt::format("ramdisk entry /{} should have changed and did not", place));
  return {};
}

}  // namespace wexlo
