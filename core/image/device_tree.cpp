#include "image/device_tree.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "codec/codec.hpp"

namespace wexlo::dt {
namespace {

constexpr std::uint64_t kMaxTree = 16u << 20;    ///< decoded
constexpr std::uint64_t kMaxTrees = 256u << 20;  ///< of one table, decoded

/// Where a table says that a blob is: the offsets of its two numbers in the place.
struct Reference {
  std::size_t offset_at, size_at;
  std::string label;
  std::string compression = "none";
};

struct Index {
  Form form = Form::None;
  std::endian order = std::endian::big;
  std::vector<Reference> references;
  std::optional<std::size_t> total_at;  ///< a number that counts the whole place
  std::uint64_t end = 0;                ///< of the rows: no tree lies before
};

std::uint32_t number(View bytes, std::size_t at, std::endian order) {
  return order == std::endian::big ? load<std::uint32_t, std::endian::big>(bytes.data() + at)
                                   : load<std::uint32_t, std::endian::little>(bytes.data() + at);
}

void put_number(Bytes& bytes, std::size_t at, std::endian order, std::uint64_t value) {
  const auto word = static_cast<std::uint32_t>(value);
  if (order == std::endian::big)
    store<std::uint32_t, std::endian::big>(bytes.data() + at, word);
  else
    store<std::uint32_t, std::endian::little>(bytes.data() + at, word);
}

/// The open table: 32 bytes of header, then rows whose size the header gives.
void index_table(View bytes, Index& index) {
  constexpr std::size_t kHeader = 32, kRow = 32;
  if (bytes.size() < kHeader) return;
  const auto at = [&](std::size_t offset) { return number(bytes, offset, std::endian::big); };
  const std::uint64_t row = at(12), count = at(16), first = at(20), version = at(28);
  index.total_at = 4;
  if (row < kRow || first + count * row > bytes.size()) return;
  index.end = std::max<std::uint64_t>(kHeader, first + count * row);
  for (std::uint64_t i = 0; i < count; ++i) {
    const std::size_t r = first + i * row;
    Reference reference{r + 4, r,
                        fmt::format("{}: id 0x{:x}, rev 0x{:x}", i, at(r + 8), at(r + 12))};
    const unsigned packing = version >= 1 ? at(r + 16) & 15u : 0;
    if (packing != 0)
      reference.compression = packing == 1   ? "zlib"
                              : packing == 2 ? "gzip"
                                             : fmt::format("unknown ({})", packing);
    index.references.push_back(std::move(reference));
  }
}

/// The older makers' tables: rows of a fixed size, offset and size at their end.
void index_rows(View bytes, Index& index, std::size_t row, std::size_t offset_in_row) {
  constexpr std::size_t kHeader = 12;
  const std::uint64_t count = number(bytes, 8, std::endian::little);
  if (kHeader + count * row > bytes.size()) return;
  index.end = kHeader + count * row;
  for (std::uint64_t i = 0; i < count; ++i) {
    const std::size_t r = kHeader + i * row;
    index.references.push_back(
        {r + offset_in_row, r + offset_in_row + 4,
         fmt::format("{}: 0x{:x} 0x{:x}", i, number(bytes, r, std::endian::little),
                     number(bytes, r + 4, std::endian::little))});
  }
}

Index index_of(View bytes) {
  Index index{.form = form_of(bytes)};
  if (index.form == Form::Table) index_table(bytes, index);
  if (index.form == Form::QcdtTable || index.form == Form::DtbhTable) {
    index.order = std::endian::little;
    if (bytes.size() < 12) return index;
    const std::uint32_t version = number(bytes, 4, std::endian::little);
    if (index.form == Form::DtbhTable)
      index_rows(bytes, index, 32, 20);
    else if (version == 1)
      index_rows(bytes, index, 20, 12);
    else if (version == 2)
      index_rows(bytes, index, 24, 16);
    else if (version == 3)
      index_rows(bytes, index, 40, 32);
  }
  return index;
}

Blob decoded(const Blob& stored, const std::string& compression) {
  if (compression == "none") return stored;
  const auto kind = compression_named(compression);
  if (!kind) return {};
  auto out = decode(*kind, stored.view(), {.bytes = kMaxTree});
  return out ? out->bytes : Blob();
}

DtBlob blob_at(const Blob& place, std::uint64_t offset, std::uint64_t size,
               const std::string& compression) {
  DtBlob out{.offset = offset, .size = size, .compression = compression};
  out.fdt = decoded(place.part(offset, size), compression);
  out.facts = facts_of(out.fdt.view());
  return out;
}

std::vector<DtBlob> chain(const Blob& place) {
  std::vector<DtBlob> out;
  std::size_t at = 0;
  while (at < place.size()) {
    std::size_t begin = at;
    // Some writers pad between two trees.
    while (begin < place.size() && begin - at < 4096 && place.view()[begin] == std::byte{0})
      ++begin;
    const auto size = fdt_size(place.view().subspan(begin));
    if (!size) break;
    out.push_back(blob_at(place, begin, *size, "none"));
    at = begin + *size;
  }
  return out;
}

/// What takes a blob's place: packed as it was, and as long as alignment behind it asks for.
Result<Bytes> stored_form(const DtBlob& old, const Blob& fresh, bool chained, bool keeps_size) {
  Bytes bytes = to_bytes(fresh.view());
  if (!fdt_size(bytes))
    return fail({.code = ErrorCode::BadValue,
                 .message = "no device tree blob",
                 .expected = "an FDT, magic d00dfeed, whole",
                 .found = hex(fresh.view().first(std::min<std::size_t>(8, fresh.size()))),
                 .hint = "Make one from its source with: dtc -O dtb."});
  if (old.compression != "none") {
    const auto kind = compression_named(old.compression);
    if (!kind)
      return fail(
          {.code = ErrorCode::Unsupported,
           .message = "the table packs this tree in a way that is not known: " + old.compression});
    return encode(*kind, bytes);
  }
  if (keeps_size && bytes.size() < old.size) bytes.resize(old.size);
  const std::size_t slack = (8 - (bytes.size() - old.size) % 8) % 8;
  if (chained && slack != 0) {
    // Readers step from tree to tree by the size that each says of itself.
    bytes.resize(bytes.size() + slack);
    store<std::uint32_t, std::endian::big>(bytes.data() + 4,
                                           static_cast<std::uint32_t>(bytes.size()));
  }
  return bytes;
}

}  // namespace

std::string_view form_name(Form form) {
  switch (form) {
    case Form::Chain: return "dtb chain";
    case Form::Table: return "dt table";
    case Form::QcdtTable: return "qcdt table";
    case Form::DtbhTable: return "dtbh table";
    case Form::None: break;
  }
  return "none";
}

Form form_of(View bytes) {
  if (looks_like_table(bytes)) return Form::Table;
  if (as_text(bytes).starts_with("QCDT")) return Form::QcdtTable;
  if (as_text(bytes).starts_with("DTBH")) return Form::DtbhTable;
  return fdt_size(bytes) ? Form::Chain : Form::None;
}

std::vector<DtBlob> blobs(const Blob& place) {
  const Index index = index_of(place.view());
  if (index.form == Form::Chain) return chain(place);
  std::map<std::pair<std::uint64_t, std::uint64_t>, std::vector<const Reference*>> distinct;
  for (const Reference& reference : index.references) {
    const std::uint64_t offset = number(place.view(), reference.offset_at, index.order);
    const std::uint64_t size = number(place.view(), reference.size_at, index.order);
    if (size == 0) continue;  // a row that names nothing
    if (offset < index.end || offset > place.size() || size > place.size() - offset) return {};
    distinct[{offset, size}].push_back(&reference);
  }
  std::vector<DtBlob> out;
  std::uint64_t total = 0;
  for (const auto& [range, references] : distinct) {
    if (total > kMaxTrees) return {};  // packed trees that unpack to more than any phone has
    // Trees over each other cannot be edited one by one.
    if (!out.empty() && range.first < out.back().offset + out.back().size) return {};
    out.push_back(blob_at(place, range.first, range.second, references.front()->compression));
    total += out.back().fdt.size();
    for (const Reference* reference : references)
      out.back().entries.push_back(reference->label);
  }
  return out;
}

Result<Bytes> replace(const Blob& place, const std::map<std::size_t, Blob>& fresh) {
  const Index index = index_of(place.view());
  const auto old = blobs(place);
  const bool chained = index.form == Form::Chain;
  Bytes out;
  std::vector<std::pair<std::uint64_t, std::uint64_t>> now(old.size());  // offset, size
  std::size_t taken = 0;
  for (std::size_t i = 0; i < old.size(); ++i) {
    append(out, place.view().subspan(taken, old[i].offset - taken));
    taken = old[i].offset + old[i].size;
    const auto at = fresh.find(i);
    Bytes bytes = to_bytes(place.view().subspan(old[i].offset, old[i].size));
    if (at != fresh.end()) {
      const bool old_tables =
          index.form == Form::QcdtTable || index.form == Form::DtbhTable;  // sizes count padding
      WEXLO_TRY(bytes, stored_form(old[i], at->second, chained, old_tables));
    }
    now[i] = {out.size(), bytes.size()};
    append(out, View(bytes));
    // What follows keeps its alignment; in a table the gap is nobody's.
    if (!chained && taken < place.size())
      out.resize(out.size() + (8 - (out.size() - taken) % 8) % 8);
  }
  append(out, place.view().subspan(taken));
  for (const Reference& reference : index.references) {
    const std::uint64_t offset = number(place.view(), reference.offset_at, index.order);
    const std::uint64_t size = number(place.view(), reference.size_at, index.order);
    for (std::size_t i = 0; i < old.size(); ++i) {
      if (old[i].offset != offset || old[i].size != size) continue;
      put_number(out, reference.offset_at, index.order, now[i].first);
      put_number(out, reference.size_at, index.order, now[i].second);
    }
  }
  if (index.total_at) {
    const std::uint64_t total = number(place.view(), *index.total_at, index.order);
    put_number(out, *index.total_at, index.order, total + out.size() - place.size());
  }
  return out;
}

}  // namespace wexlo::dt
