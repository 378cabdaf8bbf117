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

/// The output's ramdisk, and the one it counts from.
struct Pair {
  Ramdisk now, old;
};

Status read_both(const boot::RamdiskPart& part, const Blob& base, const Intent& intent,
                 const Context& context, Pair& pair) {
  TaskGroup tasks(context);
  const auto read = [&](const Blob& from, Ramdisk& to) {
    tasks.submit(0, [&from, &to, limit = decode_limit(context)]() -> Status {
      WEXLO_TRY(to, parse_ramdisk(from, limit));
      return {};
    });
  };
  read(part.bytes, pair.now);
  const auto opened = intent.opened.find(part.index);
  if (opened == intent.opened.end()) read(base, pair.old);
  WEXLO_CHECK(tasks.wait());
  if (opened != intent.opened.end()) {
    WEXLO_TRY(pair.old, reread_stock(*opened->second));
  }
  return {};
}

bool is_meant(const Intent::Meant& meant, const Places& now, const std::string& place) {
  const auto at = now.find(place);
  if (!meant.sha256) return at == now.end();
  return at != now.end() && *meant.sha256 == sha256_hex(at->second.content());
}

}  // namespace

Status account_ramdisk(const boot::RamdiskPart& part, const Blob& base, const Intent& intent,
                       std::vector<std::string>& entries, const Context& context) {
  static const Intent::Entries kNothing;
  const auto intended = intent.ramdisks.find(part.index);
  const Intent::Entries& meant = intended == intent.ramdisks.end() ? kNothing : intended->second;
  Pair pair;
  WEXLO_CHECK(read_both(part, base, intent, context, pair));
  if (pair.now.segments.size() != pair.old.segments.size() ||
      !equal(pair.now.tail.view(), pair.old.tail.view()) ||
      pair.now.compression() != pair.old.compression())
    return unexplained("the ramdisk's streams", part.offset);
  std::vector<std::string> order_now, order_old;
  const Places now = places(pair.now, order_now), old = places(pair.old, order_old);
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
