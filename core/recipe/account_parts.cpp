/// The account of a kernel and of device trees.

#include <fmt/format.h>

#include <algorithm>

#include "base/differing.hpp"
#include "image/device_tree.hpp"
#include "image/kernel.hpp"
#include "image/part_header.hpp"
#include "recipe/account.hpp"

namespace wexlo {
namespace {

/// Sizes and sums in front of a kernel may follow it.
bool wrapping_explained(View now, View base, std::size_t size) {
  if (equal(now.first(size), base.first(size))) return true;
  if (part_header::looks_like(base))
    return equal(now.first(size),
                 part_header::renewed(base.first(size), base.size() - size, now.size() - size));
  for (std::size_t i = 0; i < size; ++i) {
    // uImage: sum of the header, size and sum of the data.
    const bool follows = (i >= 4 && i < 8) || (i >= 12 && i < 16) || (i >= 24 && i < 28);
    if (!follows && now[i] != base[i]) return false;
  }
  return true;
}

Status account_body(const kernel::Body& now, const kernel::Body& base, const Intent& intent) {
  const View a = now.decoded.view(), b = base.decoded.view();
  if (a.size() != intent.kernel_size.value_or(b.size()) || now.compression != base.compression)
    return unexplained("the kernel's size or packing");
  const auto check = [&](std::size_t at) -> Status {
    const bool meant = std::ranges::any_of(intent.kernel, [&](const Intent::Span& span) {
      return at >= span.offset && at - span.offset < span.size;
    });
    return meant ? Status{} : unexplained(fmt::format("byte 0x{:x} of the unpacked kernel", at));
  };
  const std::size_t common = std::min(a.size(), b.size()), end = std::max(a.size(), b.size());
  const View now_common = a.first(common), base_common = b.first(common);
  for (std::size_t at = next_difference(now_common, base_common, 0); at < common;
       at = next_difference(now_common, base_common, at + 1))
    WEXLO_CHECK(check(at));
  // What only one of them has differs, too.
  for (std::size_t at = common; at < end; ++at)
    WEXLO_CHECK(check(at));
  return {};
}

}  // namespace

Status account_kernel(const Blob& now, const Blob& base, const Intent& intent,
                      const Context& context) {
  const auto body = kernel::open_body(now, decode_limit(context));
  const auto old = kernel::open_body(base, decode_limit(context));
  if (!body || !old) {
    // Not taken apart: then only trees behind it may differ.
    const auto read = kernel::read(base, decode_limit(context));
    const std::size_t head = read.trees.empty() ? base.size() : read.trees_at;
    if (now.size() < head || !equal(now.view().first(head), base.view().first(head)))
      return unexplained("the kernel");
    return account_trees("kernel", now.rest(head), base.rest(head), intent);
  }
  WEXLO_CHECK(account_body(*body, *old, intent));
  if (body->inside) {
    // The unpacking code and what follows the payload stay where they are.
    const bool around = now.size() == base.size() && body->begin == old->begin &&
                        equal(now.view().first(body->begin), base.view().first(old->begin)) &&
                        equal(now.view().subspan(old->end), base.view().subspan(old->end));
    return around ? Status{} : unexplained("the kernel's own unpacking code");
  }
  if (body->begin != old->begin || !wrapping_explained(now.view(), base.view(), body->begin))
    return unexplained("what stands before the kernel");
  if (equal(now.view().subspan(body->end), base.view().subspan(old->end))) return {};
  return account_trees("kernel", now.rest(body->end), base.rest(old->end), intent);
}

Status account_trees(const std::string& section, const Blob& now, const Blob& base,
                     const Intent& intent) {
  const auto trees = dt::blobs(now), old = dt::blobs(base);
  if (trees.size() != old.size() || old.empty() ||
      dt::form_of(now.view()) != dt::form_of(base.view()))
    return unexplained(fmt::format("section {}", section));
  for (std::size_t i = 0; i < trees.size(); ++i) {
    if (trees[i].entries != old[i].entries || trees[i].compression != old[i].compression)
      return unexplained(fmt::format("the rows of device tree {} of {}", i, section));
    if (equal(trees[i].fdt.view(), old[i].fdt.view())) continue;
    const auto found = intent.trees.find({section, i});
    const auto a = dt::flattened(trees[i].fdt.view()), b = dt::flattened(old[i].fdt.view());
    const auto meant = [&](const std::string& key) {
      return found != intent.trees.end() && found->second.contains(key);
    };
    for (const auto& [key, value] : a) {
      const auto before = b.find(key);
      const bool same = before != b.end() && before->second == value;
      if (!same && !meant(key))
        return unexplained(fmt::format("device tree {} of {}, {}", i, section, key));
    }
    for (const auto& [key, value] : b)
      if (!a.contains(key) && !meant(key))
        return unexplained(fmt::format("device tree {} of {}, {} is gone", i, section, key));
  }
  return {};
}

}  // namespace wexlo
