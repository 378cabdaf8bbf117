#include "image/layout.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace wexlo {
namespace {

constexpr std::uint64_t kMinPage = 2048, kMaxPage = 131072;

std::uint64_t load_field(const Layout& layout, const Field& field, View header) {
  const std::byte* at = header.data() + field.offset;
  const bool little = layout.order == std::endian::little;
  if (field.type == FieldType::U64)
    return little ? load<std::uint64_t, std::endian::little>(at)
                  : load<std::uint64_t, std::endian::big>(at);
  return little ? load<std::uint32_t, std::endian::little>(at)
                : load<std::uint32_t, std::endian::big>(at);
}

Result<std::uint64_t> page_of(const Layout& layout, View header) {
  if (layout.page != 0) return layout.page;
  const Field& field = *layout.field("page_size");
  const std::uint64_t page = load_field(layout, field, header);
  if (page < kMinPage || page > kMaxPage || !std::has_single_bit(page))
    return fail({.code = ErrorCode::BadValue,
                 .message = "page_size is out of range",
                 .offset = field.offset,
                 .expected = fmt::format("a power of two from {} to {}", kMinPage, kMaxPage),
                 .found = fmt::format("{}", page),
                 .hint = "The header is damaged, or this is no boot image."});
  return page;
}

Error no_such(const Layout& layout, std::string_view what, std::string_view name) {
  return {.code = ErrorCode::Unsupported,
          .message = fmt::format("a {} image of version {} has no {} {}", layout.kind,
                                 layout.version, what, name)};
}

/// What follows a section of another size that ends where the old one did: it takes of the zeros
/// behind it, or leaves zeros.
Result<Bytes> padding_in_place(const Section& old, std::uint64_t size) {
  const View behind = old.padding.view();
  const auto zeros = static_cast<std::size_t>(
      std::ranges::find_if(behind, [](std::byte one) { return one != std::byte{0}; }) -
      behind.begin());
  const std::uint64_t room = old.bytes.size() + zeros;
  if (size > room)
    return fail(
        {.code = ErrorCode::DoesNotFit,
         .message = fmt::format("{} has its place in the image, and no more room there", old.name),
         .offset = old.offset,
         .expected = fmt::format("at most {} bytes", room),
         .found = fmt::format("{} bytes", size),
         .hint = "Put less into it: the parts behind it have places of their own."});
  Bytes out(static_cast<std::size_t>(room - size));
  append(out, behind.subspan(zeros));
  return out;
}

}  // namespace

const Field* Layout::field(std::string_view name) const {
  const auto at = std::ranges::find(fields, name, &Field::name);
  return at == fields.end() ? nullptr : &*at;
}

Result<Image> Image::parse(const Layout& layout, const Blob& blob) {
  const View bytes = blob.view();
  WEXLO_CHECK(slice(bytes, 0, layout.header_size, "header"));
  Image image;
  image.layout_ = &layout;
  WEXLO_TRY(image.page_, page_of(layout, bytes));
  std::uint64_t at =
      std::min<std::uint64_t>(align_up(layout.header_size, image.page_), bytes.size());
  image.header_ = to_bytes(bytes.first(static_cast<std::size_t>(at)));
  for (const SectionRule& rule : layout.sections) {
    const Field& field = *layout.field(rule.size_field);
    std::uint64_t size = load_field(layout, field, bytes);
    if (size < rule.bias)
      return fail({.code = ErrorCode::BadValue,
                   .message = fmt::format("{} is out of range", rule.size_field),
                   .offset = field.offset,
                   .expected = fmt::format("at least {}", rule.bias),
                   .found = fmt::format("{}", size),
                   .section = rule.name});
    size -= rule.bias;
    const std::uint64_t left = bytes.size() - at;
    if (size > left)
      return fail({.code = ErrorCode::Truncated,
                   .message = fmt::format("{} runs past the end of the file, {} at 0x{:x} says so",
                                          rule.name, rule.size_field, field.offset),
                   .offset = at,
                   .expected = fmt::format("{} bytes", size),
                   .found = fmt::format("{} bytes", left),
                   .hint = "The file may be cut short: compare its size with the source's.",
                   .section = rule.name});
    const auto padded = std::min(align_up(size, image.page_), left);
    image.sections_.push_back({.name = std::string(rule.name),
                               .offset = at,
                               .bytes = blob.part(at, size),
                               .padding = blob.part(at + size, padded - size)});
    at += padded;
  }
  image.tail_ = blob.rest(static_cast<std::size_t>(at));
  return image;
}

Image Image::parse_placed(const Layout& layout, const Blob& bytes,
                          const std::vector<SectionPlace>& places) {
  Image image;
  image.layout_ = &layout;
  image.header_ = to_bytes(bytes.view().first(static_cast<std::size_t>(places.front().offset)));
  for (std::size_t i = 0; i < places.size(); ++i) {
    const SectionPlace& one = places[i];
    const std::uint64_t end = one.offset + one.size;
    const std::uint64_t next = i + 1 < places.size() ? places[i + 1].offset : bytes.size();
    image.sections_.push_back({.name = one.name,
                               .offset = one.offset,
                               .bytes = bytes.part(one.offset, one.size),
                               .padding = bytes.part(end, next - end)});
  }
  return image;
}

Image Image::parse_whole(const Layout& layout, std::string section, const Blob& bytes,
                         std::uint64_t size) {
  Image image;
  image.layout_ = &layout;
  image.sections_.push_back({.name = std::move(section), .bytes = bytes.part(0, size)});
  image.tail_ = bytes.rest(size);
  return image;
}

std::uint64_t Image::size() const {
  std::uint64_t out = prefix_.size() + header_.size() + tail_.size();
  for (const Section& section : sections_)
    out += section.bytes.size() + section.padding.size();
  return out;
}

Bytes Image::write() const {
  Bytes out;
  out.reserve(static_cast<std::size_t>(size()));
  append(out, prefix_.view());
  append(out, View(header_));
  for (const Section& section : sections_) {
    append(out, section.bytes.view());
    append(out, section.padding.view());
  }
  append(out, tail_.view());
  return out;
}

std::uint64_t Image::number(std::string_view name) const {
  const Field* field = layout_->field(name);
  if (field == nullptr || (field->type != FieldType::U32 && field->type != FieldType::U64))
    return 0;
  return load_field(*layout_, *field, header_);
}

void Image::set_prefix(Blob prefix) {
  for (Section& section : sections_)
    section.offset += prefix.size() - prefix_.size();  // unsigned: wraps back when it shrinks
  prefix_ = std::move(prefix);
}

View Image::raw(std::string_view name) const {
  const Field* field = layout_->field(name);
  return field == nullptr ? View{} : View(header_).subspan(field->offset, field->size);
}

Status Image::set_number(std::string_view name, std::uint64_t value) {
  const Field* field = layout_->field(name);
  if (field == nullptr) return fail(no_such(*layout_, "field", name));
  const std::uint64_t largest = field->type == FieldType::U64 ? ~std::uint64_t{0} : 0xffffffffu;
  if (value > largest)
    return fail({.code = ErrorCode::OutOfRange,
                 .message = fmt::format("the value does not fit the field {}", name),
                 .expected = fmt::format("at most {}", largest),
                 .found = fmt::format("{}", value)});
  std::byte* at = header_.data() + field->offset;
  const bool little = layout_->order == std::endian::little;
  const auto word = static_cast<std::uint32_t>(value);
  if (field->type == FieldType::U64)
    little ? store<std::uint64_t, std::endian::little>(at, value)
           : store<std::uint64_t, std::endian::big>(at, value);
  else
    little ? store<std::uint32_t, std::endian::little>(at, word)
           : store<std::uint32_t, std::endian::big>(at, word);
  return {};
}

Status Image::set_raw(std::string_view name, View value) {
  const Field* field = layout_->field(name);
  if (field == nullptr) return fail(no_such(*layout_, "field", name));
  if (value.size() > field->size)
    return fail({.code = ErrorCode::OutOfRange,
                 .message = fmt::format("the value does not fit the field {}", name),
                 .expected = fmt::format("at most {} bytes", field->size),
                 .found = fmt::format("{} bytes", value.size())});
  const auto at = header_.begin() + field->offset;
  std::fill(at, at + field->size, std::byte{0});
  std::ranges::copy(value, at);
  return {};
}

const Section* Image::section(std::string_view name) const {
  const auto at = std::ranges::find(sections_, name, &Section::name);
  return at == sections_.end() ? nullptr : &*at;
}

Status Image::replace(std::string_view name, Blob bytes) {
  const auto at = std::ranges::find(sections_, name, &Section::name);
  const auto rule = std::ranges::find(layout_->sections, name, &SectionRule::name);
  const bool sized = !layout_->sections.empty();
  if (at == sections_.end() || (sized && rule == layout_->sections.end()))
    return fail(no_such(*layout_, "section", name));
  Bytes padding(align_up(bytes.size(), page_) - bytes.size());
  const bool last = at + 1 == sections_.end() && at->padding.empty();
  if (layout_->placed && !last) {
    WEXLO_TRY(padding, padding_in_place(*at, bytes.size()));
  }
  if (sized) WEXLO_CHECK(set_number(rule->size_field, bytes.size() + rule->bias));
  if (sized && !rule->memory_field.empty()) {
    const std::uint64_t memory = number(rule->memory_field);
    const bool same = memory == at->bytes.size();
    WEXLO_CHECK(set_number(rule->memory_field,
                           same ? bytes.size() : std::max<std::uint64_t>(memory, bytes.size())));
  }
  at->padding = Blob(std::move(padding));
  at->bytes = std::move(bytes);
  // A file whose header page was cut short has no sections behind it; a filled one needs the page.
  header_.resize(align_up(header_.size(), page_));
  return {};
}

std::uint64_t Image::sections_end() const {
  std::uint64_t end = prefix_.size() + header_.size();
  for (const Section& section : sections_)
    end += section.bytes.size() + section.padding.size();
  return end;
}

}  // namespace wexlo
