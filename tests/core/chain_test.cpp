/// Verdicts over signed sets that are spoilt in one way each: the table of docs/verified-boot.md.

#include <fmt/format.h>

#include <algorithm>
#include <functional>
#include <map>

#include "support/check.hpp"
#include "support/places.hpp"
#include "support/signed_set.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo;
using namespace wexlo::test;
using verified::Descriptor;

namespace {

/// One case: the set, and what the phone has stored.
struct Case {
  SignedSet set = signed_set();
  std::map<std::uint32_t, std::uint64_t> rollback;

  void top() { set.write_top(); }
  Bytes& vbmeta() { return set.at("vbmeta"); }
  void flip(const std::string& partition, std::size_t at) {
    set.at(partition).at(at) ^= std::byte{0x20};
  }
  template <class T>
  T claim(std::string_view partition) {
    for (const Descriptor& one : set.top.parsed())
      if (const auto* found = std::get_if<T>(&one.value); found && found->partition == partition)
        return *found;
    FAIL("no such claim");
    return {};
  }
  /// Where a descriptor of the top-level struct stands in it.
  std::size_t place_of(std::string_view partition) {
    const Image image = value_of(verified::parse_vbmeta(Blob(vbmeta())));
    for (const Descriptor& one : value_of(verified::descriptors(image)))
      if (verified::partition_of(one) == partition)
        return image.section("auxiliary")->offset + one.offset;
    FAIL("no such descriptor");
    return 0;
  }
  /// Changes the raw descriptors and signs what comes out.
  Bytes& raw(std::string_view partition) {
    const auto all = set.top.parsed();
    for (std::size_t i = 0; i < all.size(); ++i)
      if (verified::partition_of(all[i]) == partition) return set.top.descriptors[i];
    FAIL("no such descriptor");
    return set.top.descriptors.front();
  }
};

void put64(Bytes& at, std::size_t offset, std::uint64_t value) {
  store<std::uint64_t, std::endian::big>(at.data() + offset, value);
}
void put32(Bytes& at, std::size_t offset, std::uint32_t value) {
  store<std::uint32_t, std::endian::big>(at.data() + offset, value);
}

using Spoil = std::function<void(Case&)>;

void flags(Case& c, std::uint32_t value) {
  c.set.top.set_flags(value);
  c.top();
}
void swap_digests(Case& c) {
  auto hash = c.claim<verified::HashDescriptor>("init_boot");
  std::ranges::reverse(hash.digest);
  c.set.top.set_claim(hash);
}
void no_footer(Case& c) {
  std::ranges::fill(c.set.at("boot").end() - 64, c.set.at("boot").end(), std::byte{0});
}
void footer(Case& c, std::uint64_t offset, std::uint64_t size) {
  Bytes& boot = c.set.at("boot");
  const Bytes raw = verified::write_footer({c.set.boot_content, offset, size});
  std::ranges::copy(raw, boot.end() - 64);
}
void chain_location(Case& c, std::uint32_t location) {
  auto chain = c.claim<verified::ChainDescriptor>("boot");
  chain.rollback_index_location = location;
  c.set.top.set_claim(chain);
  c.top();
}
/// The header's own bytes are signed with it.
void header(Case& c, std::size_t at, std::uint32_t value) {
  put32(c.set.top.header, at, value);
  c.top();
}
void without_vbmeta(Case& c) {
  c.set.images.erase("vbmeta");
}

const std::map<std::string, Spoil>& cases() {
  constexpr std::size_t kSignatureAt = 256 + 32;
  static const std::map<std::string, Spoil> all{
      {"valid", [](Case&) {}},
      {"root key is another", [](Case& c) { c.set.write_top(&signer(KeyOf::Stranger)); }},
      {"chained struct signed with another key",
       [](Case& c) { c.set.write_boot(&signer(KeyOf::Stranger)); }},
      {"top-level struct not signed", [](Case& c) { c.set.write_top(nullptr); }},
      {"chained struct not signed", [](Case& c) { c.set.write_boot(nullptr); }},
      {"signature of the top-level struct damaged",
       [](Case& c) { c.flip("vbmeta", kSignatureAt + 5); }},
      {"property changed without signing again",
       [](Case& c) { c.flip("vbmeta", c.place_of("boot") - 10); }},
      {"descriptors swapped, signed again",
       [](Case& c) {
         swap_digests(c);
         c.top();
       }},
      {"descriptors swapped without signing again",
       [](Case& c) {
         const std::size_t at = c.place_of("init_boot") + 132 + 9 + 32;
         std::swap(c.vbmeta()[at], c.vbmeta()[at + 1]);
         c.vbmeta()[at] ^= std::byte{1};
       }},
      {"image changed", [](Case& c) { c.flip("init_boot", 100); }},
      {"image of a chained partition changed", [](Case& c) { c.flip("boot", 100); }},
      {"image shorter than its digest covers", [](Case& c) { c.set.at("init_boot").resize(4096); }},
      {"image of another partition not available",
       [](Case& c) { c.set.images.erase("init_boot"); }},
      {"block of a hash tree's data changed", [](Case& c) { c.flip("system", 5 * 4096); }},
      {"block of a hash tree changed", [](Case& c) { c.flip("system", 151 * 4096 + 8); }},
      {"root digest of a hash tree changed, signed again",
       [](Case& c) {
         auto tree = c.claim<verified::HashtreeDescriptor>("system");
         tree.root_digest[0] ^= std::byte{1};
         c.set.top.set_claim(tree);
         c.top();
       }},
      {"error correction changed",
       [](Case& c) {
         c.flip("system", c.claim<verified::HashtreeDescriptor>("system").fec_offset + 3);
       }},
      {"rollback index lower than stored", [](Case& c) { c.rollback[0] = kRollback + 1; }},
      {"rollback index of a chained struct lower than stored",
       [](Case& c) { c.rollback[1] = kRollback + 1; }},
      {"rollback index as stored",
       [](Case& c) {
         c.rollback = {{0, kRollback}, {1, kRollback}, {2, 99}};
       }},
      {"flags 1, signed", [](Case& c) { flags(c, 1); }},
      {"flags 2, signed", [](Case& c) { flags(c, 2); }},
      {"flags 3, signed", [](Case& c) { flags(c, 3); }},
      {"flags 3, not signed again", [](Case& c) { c.vbmeta()[123] = std::byte{3}; }},
      {"flags 3, image of a chained partition without footer",
       [](Case& c) {
         flags(c, 3);
         no_footer(c);
       }},
      {"flags 1, image changed",
       [](Case& c) {
         flags(c, 1);
         c.flip("init_boot", 100);
       }},
      {"flags 1, block of a hash tree's data changed",
       [](Case& c) {
         flags(c, 1);
         c.flip("system", 5 * 4096);
       }},
      {"flags in a chained struct",
       [](Case& c) {
         c.set.boot.set_flags(1);
         c.set.write_boot();
       }},
      {"chained partition without footer", no_footer},
      {"chained partition not there", [](Case& c) { c.set.images.erase("boot"); }},
      {"footer points outside its partition", [](Case& c) { footer(c, 1 << 20, 512); }},
      {"footer's struct larger than loaders read", [](Case& c) { footer(c, 0, 65537); }},
      {"vbmeta all zeros", [](Case& c) { std::ranges::fill(c.vbmeta(), std::byte{0}); }},
      {"vbmeta's magic changed", [](Case& c) { c.flip("vbmeta", 1); }},
      {"descriptor longer than the struct",
       [](Case& c) {
         put64(c.raw("system"), 8, 1 << 20);
         c.top();
       }},
      {"descriptor's length no multiple of 8",
       [](Case& c) {
         put64(c.raw("init_boot"), 8,
               load<std::uint64_t, std::endian::big>(c.raw("init_boot").data() + 8) - 4);
         c.top();
       }},
      {"inner length longer than its descriptor",
       [](Case& c) {
         put32(c.raw("init_boot"), 60, 0xffffffff);
         c.top();
       }},
      {"property that does not read",
       [](Case& c) {
         put64(c.set.top.descriptors.front(), 16, 1 << 20);
         c.top();
       }},
      {"partition name of 40 letters",
       [](Case& c) {
         auto hash = c.claim<verified::HashDescriptor>("init_boot");
         hash.partition = std::string(40, 'n');
         c.set.top.set_claim(hash);
         c.top();
         c.set.images.erase("init_boot");
       }},
      {"command line that is no UTF-8",
       [](Case& c) {
         c.set.top.descriptors.push_back(
             verified::encode_descriptor(verified::CmdlineDescriptor{0, "a=\xff\xfe"}));
         c.top();
       }},
      {"digest of a wrong length",
       [](Case& c) {
         auto hash = c.claim<verified::HashDescriptor>("init_boot");
         hash.digest.resize(24);
         c.set.top.set_claim(hash);
         c.top();
       }},
      {"digest by an unknown algorithm",
       [](Case& c) {
         auto hash = c.claim<verified::HashDescriptor>("init_boot");
         hash.hash_algorithm = "sha1";
         c.set.top.set_claim(hash);
         c.top();
       }},
      {"block size no multiple of 64",
       [](Case& c) {
         const auto size = load<std::uint64_t, std::endian::big>(c.vbmeta().data() + 20);
         put64(c.vbmeta(), 20, size - 8);
       }},
      {"release string without an end", [](Case& c) { c.vbmeta()[175] = std::byte{'x'}; }},
      {"another major version", [](Case& c) { header(c, 4, 2); }},
      {"minor version too new", [](Case& c) { header(c, 8, 9); }},
      {"signature algorithm unknown", [](Case& c) { put32(c.vbmeta(), 28, 7); }},
      {"rollback location 0", [](Case& c) { chain_location(c, 0); }},
      {"rollback location 32", [](Case& c) { chain_location(c, 32); }},
      {"chained struct chains on",
       [](Case& c) {
         c.set.boot.set_claim(
             verified::ChainDescriptor{"other", 2, signer(KeyOf::Boot).public_key()});
         c.set.write_boot();
       }},
      {"unknown descriptor",
       [](Case& c) {
         Bytes odd(40);
         put64(odd, 0, 99);
         put64(odd, 8, 24);
         c.set.top.descriptors.insert(c.set.top.descriptors.begin(), odd);
         c.top();
       }},
      {"key blob with a wrong helper number",
       [](Case& c) {
         // The last bytes of rr: loaders calculate with them as they stand.
         const Image image = value_of(verified::parse_vbmeta(Blob(c.vbmeta())));
         const std::size_t at = image.section("auxiliary")->offset +
                                image.number("public_key_offset") +
                                image.number("public_key_size") - 1;
         c.flip("vbmeta", at);
       }},
      {"no vbmeta, boot's struct at the top",
       [](Case& c) {
         without_vbmeta(c);
         c.set.write_boot(&signer(KeyOf::Root));
       }},
      {"no vbmeta, boot's struct not signed",
       [](Case& c) {
         without_vbmeta(c);
         c.set.write_boot(nullptr);
       }},
  };
  return all;
}

struct Row {
  std::string name, locked, unlocked, status;
};

std::string trimmed(std::string_view text) {
  const auto begin = text.find_first_not_of(' ');
  if (begin == std::string_view::npos) return {};
  return std::string(text.substr(begin, text.find_last_not_of(' ') - begin + 1));
}

/// The rows of the page's first table.
std::vector<Row> documented() {
  const std::string page = read(std::filesystem::path(source_folder()) / "docs/verified-boot.md");
  std::vector<Row> rows;
  bool in = false;
  for (std::size_t at = 0; at < page.size();) {
    const std::size_t end = std::min(page.find('\n', at), page.size());
    const std::string line = page.substr(at, end - at);
    at = end + 1;
    if (line == "|---|---|---|---|") {
      in = true;
      continue;
    }
    if (!in) continue;
    if (!line.starts_with('|')) break;
    std::vector<std::string> cells;
    for (std::size_t from = 1; from < line.size();) {
      const std::size_t bar = std::min(line.find('|', from), line.size());
      cells.push_back(trimmed(std::string_view(line).substr(from, bar - from)));
      from = bar + 1;
    }
    REQUIRE(cells.size() == 4);
    rows.push_back({cells[0], cells[1], cells[2], cells[3]});
  }
  return rows;
}

std::string statuses(const verified::Walk& walk) {
  std::string out;
  for (const char* name : {"vbmeta", "boot", "init_boot", "system"}) {
    const auto at = walk.standings.find(name);
    if (at == walk.standings.end() || at->second == verified::Standing::Ok) continue;
    out +=
        fmt::format("{}{} {}", out.empty() ? "" : ", ", name, verified::standing_name(at->second));
  }
  return out;
}

}  // namespace

TEST_CASE("verdicts: each case of the documented table") {
  const auto rows = documented();
  CHECK(rows.size() == cases().size());
  for (const Row& row : rows) {
    CAPTURE(row.name);
    REQUIRE(cases().contains(row.name));
    Case one;
    cases().at(row.name)(one);
    const verified::Walk walk = one.set.walk(verified::Look::Trees, one.rollback);
    for (const verified::Fault& fault : walk.faults)
      MESSAGE(fault.message);
    CHECK(std::string(walk.locked_starts() ? "starts" : "refuses") == row.locked);
    CHECK(std::string(walk.unlocked_starts() ? "starts" : "refuses") == row.unlocked);
    CHECK(statuses(walk) == row.status);
  }
}

TEST_CASE("chain: names at their longest, and what covers a byte more than there is") {
  const auto named = [](std::size_t length) {
    Case c;
    const std::string name(length, 'n');
    auto hash = c.claim<verified::HashDescriptor>("init_boot");
    hash.partition = name;
    c.set.images[name] = c.set.at("init_boot");
    c.set.top.set_claim(hash);
    c.top();
    for (const auto& fault : c.set.walk().faults)
      if (fault.message.contains("letters")) return false;
    return true;
  };
  CHECK(named(31));
  CHECK_FALSE(named(32));
  Case over;
  auto hash = over.claim<verified::HashDescriptor>("init_boot");
  hash.image_size = over.set.at("init_boot").size() + 1;
  over.set.top.set_claim(hash);
  over.top();
  const auto walk = over.set.walk();
  CHECK(std::ranges::any_of(walk.faults, [](const auto& fault) {
    return fault.code == FindingCode::ImageDigest && fault.message.contains("covers");
  }));
  CHECK_FALSE(walk.locked_starts());
}

TEST_CASE("chain: a struct that asks for a reader of version 1.1 is read by all, of 1.2 not") {
  const auto warned = [](std::uint32_t minor) {
    Case c;
    put32(c.set.top.header, 8, minor);
    c.top();
    put32(c.vbmeta(), 8, minor);
    for (const auto& fault : c.set.walk().faults)
      if (fault.message.contains("asks for a reader")) return true;
    return false;
  };
  CHECK_FALSE(warned(0));
  CHECK_FALSE(warned(1));
  CHECK(warned(2));
}

TEST_CASE(
    "chain: an image of another build, valid by its own footer, is not the one that is meant") {
  Case c;
  const std::size_t size = c.set.at("init_boot").size();
  c.set.at("init_boot") = to_bytes(with_footer(noise(8192, 99), "init_boot", size));
  const auto walk = c.set.walk();
  CHECK_FALSE(walk.locked_starts());
  CHECK(walk.unlocked_starts());
  CHECK(std::ranges::any_of(walk.faults, [](const auto& fault) {
    return fault.code == FindingCode::ImageDigest &&
           fault.message.contains("init_boot is not the image");
  }));
}
