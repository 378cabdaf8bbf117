/// A mount point of a recipe's own, wherever others are declared.

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "image/device_tree.hpp"
#include "ramdisk/mount_files.hpp"
#include "ramdisk/textfiles.hpp"
#include "recipe/work.hpp"

namespace wexlo {
namespace {

constexpr const char* kCause = "mount point added by a recipe";

bool has_line(std::string_view text, const std::string& line) {
  return std::ranges::any_of(lines_of(text), [&](std::string_view one) {
    return one.substr(0, std::min(one.find_first_of("\r\n"), one.size())) == line;
  });
}

/// Where something else is mounted there already, it is left alone: two of one place are the
/// phone's own doing.
void leave_alone(Work& work, const std::string& where, const FstabAddEdit& edit) {
  work.note(fmt::format("{} mounts {} already, in another way: it was left as it is.", where,
                        edit.mount_point));
}

Outcome in_file(Work& work, const std::string& place, EntryAt at, const FstabAddEdit& edit) {
  const std::string text(as_text(content_of(work.ramdisk(), at).view()));
  if (has_line(text, edit.line())) return Outcome::AlreadyDone;
  if (mounts(text, edit.mount_point)) {
    leave_alone(work, "/" + place, edit);
    return Outcome::AlreadyDone;
  }
  const std::string end = text.find("\r\n") != text.npos ? "\r\n" : "\n";
  std::string out = text;
  if (!out.empty() && out.back() != '\n') out += end;
  out += edit.line() + end;
  work.detail(fmt::format("/{}: {}", place, edit.line()));
  work.claim(fmt::format("/{} {}", place, edit.mount_point), edit.line());
  work.rewrite(at, place, as_view(out), kCause);
  work.tell_text("/" + place, as_view(text), as_view(out));
  return Outcome::Applied;
}

/// The node that a tree's mount points are children of; empty: it has none.
std::string parent_of(const std::vector<dt::MountNode>& nodes) {
  return nodes.empty() ? "" : nodes.front().node.substr(0, nodes.front().node.rfind('/'));
}

std::string name_of(const std::string& mount_point) {
  std::string out = mount_point.substr(1);
  std::ranges::replace(out, '/', '_');
  return out.empty() ? "root" : out;
}

Result<dt::TreeEdit> in_tree(Work& work, const TreeAt& at, const Blob& tree,
                             const FstabAddEdit& edit) {
  const auto nodes = dt::mount_nodes(tree.view());
  if (nodes.empty()) return dt::TreeEdit{};
  const std::string node = parent_of(nodes) + "/" + name_of(edit.mount_point);
  const auto known = std::ranges::find(nodes, edit.mount_point, &dt::MountNode::mount_point);
  if (known != nodes.end() && known->node != node) {
    leave_alone(work, fmt::format("{} device tree {}", at.first, at.second), edit);
    return dt::TreeEdit{.found = true};
  }
  WEXLO_TRY(dt::TreeEdit out, dt::add_node(tree.view(), node));
  out.found = true;
  Blob now = out.changed ? out.fdt : tree;
  if (out.changed) {
    work.intent.trees[at][node] = "node added by a recipe";
    work.detail(fmt::format("{} device tree {} {}: {}", at.first, at.second, node, edit.line()));
    work.tell(fmt::format("{} device tree {} {}", at.first, at.second, node), "(none)",
              edit.line());
  }
  const std::pair<const char*, std::string> properties[] = {
      {"compatible", "android," + name_of(edit.mount_point)},
      {"dev", edit.device},
      {"type", edit.type},
      {"mnt_flags", edit.options},
      {"fsmgr_flags", fmt::format("{}", fmt::join(edit.flags, ","))},
      {"mnt_point", edit.mount_point}};
  for (const auto& [property, value] : properties) {
    WEXLO_TRY(const dt::TreeEdit set,
              dt::set_property(now.view(), node, property, to_bytes(value + '\0')));
    if (!set.changed) continue;
    work.intent.trees[at][fmt::format("{}:{}", node, property)] = kCause;
    now = set.fdt;
    out.changed = true;
  }
  out.fdt = now;
  return out;
}

}  // namespace

Result<Outcome> apply(Work& work, const FstabAddEdit& edit) {
  Outcome outcome = Outcome::NoMatch;
  const auto count = [&](Outcome one) {
    if (one == Outcome::Applied || outcome == Outcome::NoMatch) outcome = one;
  };
  for (OpenRamdisk& one : work.ramdisks) {
    if (!work.is_for(one)) continue;
    work.opened = &one;
    for (const auto& [place, at] : mount_files(one.ramdisk))
      count(in_file(work, place, at, edit));
  }
  WEXLO_TRY(const Outcome trees,
            each_tree(work, {}, false, [&](const TreeAt& at, const Blob& tree) {
              return in_tree(work, at, tree, edit);
            }));
  if (trees != Outcome::NoMatch) count(trees);
  return outcome;
}

}  // namespace wexlo
