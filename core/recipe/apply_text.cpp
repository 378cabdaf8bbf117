/// Edits of text files in a ramdisk, and of mount points wherever they are declared.

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "image/device_tree.hpp"
#include "ramdisk/mount_files.hpp"
#include "ramdisk/textfiles.hpp"
#include "recipe/work.hpp"

namespace wexlo {
namespace {

using newc::Entry;

/// A text file in the ramdisk, links followed.
struct Text {
  EntryAt at;
  std::string place, content;
};

std::optional<Text> open_text(Work& work, const std::string& file) {
  const auto at = resolve(work.ramdisk(), file);
  if (!at || entry_at(work.ramdisk(), *at).type() != newc::Regular) return std::nullopt;
  return Text{*at, newc::place_of(entry_at(work.ramdisk(), *at).name()),
              std::string(as_text(content_of(work.ramdisk(), *at).view()))};
}

Outcome close_text(Work& work, const Text& text, const std::string& after,
                   const std::string& cause) {
  if (after == text.content) return Outcome::AlreadyDone;
  work.rewrite(text.at, text.place, as_view(after), cause);
  work.tell_text("/" + text.place, as_view(text.content), as_view(after));
  return Outcome::Applied;
}

/// The file's own line end.
std::string line_end(std::string_view text) {
  return text.find("\r\n") != text.npos ? "\r\n" : "\n";
}

std::string bare(std::string_view line) {
  return std::string(line.substr(0, std::min(line.find_first_of("\r\n"), line.size())));
}

bool has_block(const std::vector<std::string_view>& lines, const std::vector<std::string>& block) {
  if (block.empty()) return true;
  for (std::size_t i = 0; i + block.size() <= lines.size(); ++i)
    if (std::equal(block.begin(), block.end(), lines.begin() + static_cast<std::ptrdiff_t>(i),
                   [](const std::string& a, std::string_view b) { return a == bare(b); }))
      return true;
  return false;
}

Status check_count(const Work& work, const std::string& place, std::size_t found,
                   const std::optional<std::uint32_t>& wanted) {
  if (!wanted || found == *wanted || found == 0) return {};
  return fail({.code = ErrorCode::BadValue,
               .message = fmt::format("recipe {}: \"{}\" matches another number of lines than it "
                                      "says",
                                      work.edit->recipe, work.edit->summary()),
               .file = "/" + place,
               .expected = fmt::format("{}", *wanted),
               .found = fmt::format("{}", found),
               .hint = "The file is not the one that the recipe was written for: look at it "
                       "first."});
}

/// Lines that match are replaced by others, or by none.
Result<Outcome> replace_lines(Work& work, const std::string& file, const LineMatch& match,
                              const std::vector<std::string>& with,
                              const std::optional<std::uint32_t>& count) {
  const auto text = open_text(work, file);
  if (!text) return Outcome::NoMatch;
  const std::string end = line_end(text->content);
  std::string out;
  std::size_t found = 0;
  for (const std::string_view line : lines_of(text->content)) {
    if (!match.matches(line)) {
      out += line;
      continue;
    }
    ++found;
    work.claim(fmt::format("/{} line \"{}\"", text->place, bare(line)), "gone");
    for (const std::string& fresh : with) {
      work.claim(fmt::format("/{} line \"{}\"", text->place, fresh), "there");
      out += fresh + end;
    }
  }
  if (found == 0) return Outcome::NoMatch;
  WEXLO_CHECK(check_count(work, text->place, found, count));
  work.detail(fmt::format("/{}: {} line{} {}", text->place, found, found == 1 ? "" : "s",
                          with.empty() ? "removed" : "replaced"));
  return close_text(work, *text, out, "lines edited by a recipe");
}

/// The property file that this ramdisk's init reads.
std::string property_file(const Ramdisk& ramdisk) {
  for (const char* place :
       {"system/etc/ramdisk/build.prop", "default.prop", "prop.default", "system/etc/prop.default"})
    if (resolve(ramdisk, place)) return place;
  return {};
}

/// What an edit of flags wants of one file or node, flag by flag: two that drop different flags of
/// one mount point go together.
void claims(Work& work, const std::string& where) {
  const auto claim = [&](const std::string& mount, const std::string& flag, std::string value) {
    work.claim(fmt::format("{} {} flag {}", where, mount, flag), std::move(value));
  };
  if (const auto* drop = std::get_if<FstabDropEdit>(&work.edit->what))
    for (const std::string& flag : drop->flags)
      claim(drop->mount_point, flag, "gone");
  if (const auto* set = std::get_if<FstabSetEdit>(&work.edit->what))
    for (const std::string& flag : set->flags)
      claim(set->mount_point, flag.substr(0, flag.find('=')), flag);
}

/// Shared by the two edits of flags.
template <class Lists, class List>
Result<Outcome> mounts_edit(Work& work, const std::string& mount_point, const std::string& cause,
                            Lists in_file, List in_list) {
  Outcome outcome = Outcome::NoMatch;
  for (OpenRamdisk& one : work.ramdisks) {
    if (!work.is_for(one)) continue;
    work.opened = &one;
    for (const auto& [place, at] : mount_files(one.ramdisk)) {
      const auto text =
          std::optional(Text{at, place, std::string(as_text(content_of(one.ramdisk, at).view()))});
      const FstabEdit done = in_file(text->content);
      if (done.changes.empty()) {
        if (outcome == Outcome::NoMatch && mounts(text->content, mount_point))
          outcome = Outcome::AlreadyDone;
        continue;
      }
      for (const std::string& change : done.changes)
        work.detail(fmt::format("/{}: {}", place, change));
      claims(work, "/" + place);
      close_text(work, *text, done.text, cause);
      outcome = Outcome::Applied;
    }
  }
  for (const TreePlace& place : tree_places(work.image, decode_limit(work.context))) {
    const auto trees = dt::blobs(place.bytes);
    std::map<std::size_t, Blob> fresh;
    for (std::size_t i = 0; i < trees.size(); ++i) {
      Blob tree = trees[i].fdt;
      for (const dt::MountNode& node : dt::mount_nodes(tree.view())) {
        if (mount_point != "*" && node.mount_point != mount_point) continue;
        const std::string list = in_list(node.flags);
        if (list == node.flags) {
          if (outcome == Outcome::NoMatch) outcome = Outcome::AlreadyDone;
          continue;
        }
        WEXLO_TRY(const auto edited,
                  dt::set_property(tree.view(), node.node, "fsmgr_flags", to_bytes(list + '\0')));
        tree = edited.fdt;
        fresh[i] = tree;
        work.intent.trees[{place.section, i}][node.node + ":fsmgr_flags"] = cause;
        const std::string where =
            fmt::format("{} device tree {} {}:fsmgr_flags", place.section, i, node.node);
        work.detail(fmt::format("{}: {} -> {}", where, node.flags, list));
        claims(work, where);
        work.report->effects.push_back({where, node.flags, list, {}});
        outcome = Outcome::Applied;
      }
    }
    if (!fresh.empty()) WEXLO_CHECK(put_trees(work, place, fresh));
  }
  return outcome;
}

}  // namespace

Result<Outcome> apply(Work& work, const LineAddEdit& edit) {
  const auto text = open_text(work, edit.file);
  if (!text) return Outcome::NoMatch;
  const auto lines = lines_of(text->content);
  if (has_block(lines, edit.lines)) return Outcome::AlreadyDone;
  const std::string end = line_end(text->content);
  std::string block;
  for (const std::string& line : edit.lines) {
    work.claim(fmt::format("/{} line \"{}\"", text->place, line), "there");
    block += line + end;
  }
  std::string out;
  if (edit.at == "start") {
    out = block + text->content;
  } else if (edit.at == "end") {
    out = text->content;
    if (!out.empty() && out.back() != '\n') out += end;
    out += block;
  } else {
    const auto anchor = std::ranges::find_if(
        lines, [&](std::string_view line) { return edit.anchor.matches(line); });
    if (anchor == lines.end()) return Outcome::NoMatch;
    for (auto line = lines.begin(); line != lines.end(); ++line) {
      if (line == anchor && edit.at == "before") out += block;
      out += *line;
      if (line != anchor || edit.at == "before") continue;
      if (out.back() != '\n') out += end;
      out += block;
    }
  }
  work.detail(fmt::format("/{}: {} line{} added", text->place, edit.lines.size(),
                          edit.lines.size() == 1 ? "" : "s"));
  return close_text(work, *text, out, "lines added by a recipe");
}

Result<Outcome> apply(Work& work, const LineReplaceEdit& edit) {
  return replace_lines(work, edit.file, edit.match, edit.lines, edit.count);
}

Result<Outcome> apply(Work& work, const LineRemoveEdit& edit) {
  return replace_lines(work, edit.file, edit.match, {}, edit.count);
}

Result<Outcome> apply(Work& work, const PropertyEdit& edit) {
  const std::string file = edit.file.empty() ? property_file(work.ramdisk()) : edit.file;
  const auto text = open_text(work, file);
  if (!text) return Outcome::NoMatch;
  std::string out = text->content;
  bool found = !edit.set.empty();
  const auto told = [&](const std::string& key, const std::string& after) {
    const std::string where = fmt::format("/{}:{}", text->place, key);
    const std::string before = property(text->content, key).value_or("(none)");
    if (before != after) work.detail(fmt::format("/{}: {}={}", text->place, key, after));
    work.tell(where, before, after);
  };
  for (const auto& [key, value] : edit.set) {
    std::string next = set_property(out, key, value);
    told(key, value);
    if (next != out) judge_property(work, key, value);
    out = std::move(next);
  }
  for (const std::string& key : edit.remove) {
    std::string next = remove_property(out, key);
    found |= next != out;
    if (next != out) told(key, "(none)");
    out = std::move(next);
  }
  if (!found) return Outcome::NoMatch;
  if (out == text->content) {
    work.report->effects.clear();
    return Outcome::AlreadyDone;
  }
  work.rewrite(text->at, text->place, as_view(out), "properties set by a recipe");
  work.touch_text("/" + text->place);
  return Outcome::Applied;
}

Result<Outcome> apply(Work& work, const FstabDropEdit& edit) {
  WEXLO_TRY(const Outcome outcome,
            mounts_edit(
                work, edit.mount_point, "fstab flags dropped",
                [&](std::string_view text) {
                  return drop_fstab_flags(text, edit.mount_point, edit.flags);
                },
                [&](std::string_view list) { return drop_flags(list, edit.flags); }));
  if (outcome == Outcome::Applied) judge_flags(work, edit.flags);
  // No entry has the flags: whether they were there a journal knows, where there can be one.
  return outcome == Outcome::AlreadyDone ? work.absent() : outcome;
}

Result<Outcome> apply(Work& work, const FstabSetEdit& edit) {
  return mounts_edit(
      work, edit.mount_point, "fstab flags set",
      [&](std::string_view text) { return set_fstab_flags(text, edit.mount_point, edit.flags); },
      [&](std::string_view list) { return set_flags(list, edit.flags); });
}

}  // namespace wexlo
