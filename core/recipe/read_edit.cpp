/// One row a kind of edit: how it is read. What a kind does is in the apply_*.cpp files.

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>

#include "recipe/read_kinds.hpp"

namespace wexlo {
namespace {

FilePack read_pack(Fields& f, std::string_view key) {
  const auto pack = file_pack_of(f.text_or(key, "none"));
  if (!pack) f.wrong(key, fmt::format("{} is one of: none, gzip, xz", key));
  return pack.value_or(FilePack::None);
}

/// `true`, or the place that the stock file goes to.
KeepStock read_keep(Fields& f) {
  KeepStock out;
  if (f.is_text("keep_stock")) {
    out.kept = true;
    out.path = f.place("keep_stock");
  } else {
    out.kept = f.flag("keep_stock");
  }
  out.pack = read_pack(f, "keep_pack");
  if (!out.kept && f.has("keep_pack"))
    f.wrong("keep_pack", "keep_pack says how the stock file is packed: keep_stock is missing");
  return out;
}

What read_put(Fields& f) {
  PutEdit edit{.path = f.place("path")};
  if (f.has("text")) {
    edit.text = f.text_or("text", "");
    if (f.has("from")) f.wrong("from", "from and text are two contents of one file");
  } else {
    edit.from = f.file("from");
  }
  edit.pack = read_pack(f, "pack");
  edit.access = f.access();
  edit.keep_stock = read_keep(f);
  edit.any_processor = f.flag("any_processor");
  if (edit.keep_stock.kept && !edit.path.empty() && edit.keep_stock.path == edit.path)
    f.wrong("keep_stock", "the stock file cannot be kept in the place of the new one");
  return edit;
}

What read_folder(Fields& f) {
  return FolderEdit{f.place("path"), f.access()};
}

What read_put_tree(Fields& f) {
  return PutTreeEdit{f.has("path") ? f.place("path", true) : "", f.file("from", true), f.access(),
                     f.flag("keep_stock"), f.flag("any_processor")};
}

What read_remove(Fields& f) {
  return RemoveEdit{f.place("path"), f.flag("keep_stock")};
}

What read_move(Fields& f) {
  MoveEdit edit{f.place("path"), f.place("to")};
  if (!edit.path.empty() && (edit.to + "/").starts_with(edit.path + "/"))
    f.wrong("to", "a place cannot be moved to itself, or into itself");
  return edit;
}

What read_link(Fields& f) {
  return LinkEdit{f.place("path"), f.text("target"), f.flag("keep_stock")};
}

What read_chmod(Fields& f) {
  ChmodEdit edit{f.place("path"), f.access()};
  if (!edit.access.mode && !edit.access.uid && !edit.access.gid)
    f.wrong("nothing is set: mode, uid or gid");
  return edit;
}

LineMatch read_match(Fields& f) {
  LineMatch match{f.optional_text("line"), f.optional_text("containing"),
                  f.optional_text("starting")};
  if (!match.line && !match.containing && !match.starting)
    f.wrong("which lines? Say line, containing or starting");
  return match;
}

void check_lines(Fields& f, std::string_view key, const std::vector<std::string>& lines) {
  if (!f.has(key)) f.wrong(fmt::format("{} is missing", key));
  for (const std::string& line : lines)
    if (line.find_first_of("\r\n") != std::string::npos)
      f.wrong(key, "a line holds a line end: make it two");
}

What read_line_add(Fields& f) {
  LineAddEdit edit{
      .file = f.place("file"), .lines = f.texts("lines"), .at = f.text_or("at", "end")};
  check_lines(f, "lines", edit.lines);
  constexpr std::array kPlaces{"end", "start", "before", "after"};
  if (std::ranges::find(kPlaces, edit.at) == kPlaces.end())
    f.wrong("at", "at is one of: end, start, before, after");
  if (edit.at == "before" || edit.at == "after") edit.anchor = read_match(f);
  return edit;
}

What read_line_replace(Fields& f) {
  LineReplaceEdit edit{f.place("file"), read_match(f), f.texts("with"),
                       f.number("count", 1u << 20)};
  check_lines(f, "with", edit.lines);
  return edit;
}

What read_line_remove(Fields& f) {
  return LineRemoveEdit{f.place("file"), read_match(f), f.number("count", 1u << 20)};
}

What read_property(Fields& f) {
  PropertyEdit edit{f.has("file") ? f.place("file") : "", f.pairs("set"), f.texts("remove")};
  if (edit.set.empty() && edit.remove.empty() && !f.has("set")) f.wrong("neither set nor remove");
  for (const auto& [name, value] : edit.set)
    if (name.find('=') != std::string::npos) f.wrong("set", "a property's name holds no \"=\"");
  return edit;
}

void check_flags(Fields& f, const std::vector<std::string>& flags) {
  if (!f.has("flags")) f.wrong("flags is missing");
  for (const std::string& flag : flags)
    if (flag.empty() || flag.find_first_of(", \t\r\n") != std::string::npos)
      f.wrong("flags", fmt::format("\"{}\" is no single flag", flag));
}

What read_fstab_drop(Fields& f) {
  FstabDropEdit edit{f.text("mount_point"), f.texts("flags")};
  check_flags(f, edit.flags);
  for (const std::string& flag : edit.flags)
    if (flag.find('=') != std::string::npos)
      f.wrong("flags", "a flag is dropped by its name: leave out what follows \"=\"");
  return edit;
}

What read_fstab_set(Fields& f) {
  FstabSetEdit edit{f.text("mount_point"), f.texts("flags")};
  check_flags(f, edit.flags);
  return edit;
}

What read_fstab_add(Fields& f) {
  FstabAddEdit edit{f.text("mount_point"), f.text("device"), f.text("type"),
                    f.text_or("options", "defaults"), f.texts("flags")};
  check_flags(f, edit.flags);
  const auto word = [&](std::string_view key, const std::string& text) {
    if (text.find_first_of(" \t\r\n") != std::string::npos)
      f.wrong(key, fmt::format("{} holds a blank: an fstab's columns are parted by them", key));
  };
  word("mount_point", edit.mount_point);
  word("device", edit.device);
  word("type", edit.type);
  word("options", edit.options);
  if (!edit.mount_point.empty() && !edit.mount_point.starts_with('/'))
    f.wrong("mount_point", "a mount point begins with \"/\"");
  return edit;
}

What read_change_list(Fields& f) {
  return ChangeListEdit{f.place("path"), f.access()};
}

What read_cmdline(Fields& f) {
  CmdlineEdit edit{f.pairs("set"), f.texts("add"), f.texts("remove")};
  if (!f.has("set") && !f.has("add") && !f.has("remove")) f.wrong("neither set, add nor remove");
  const auto blank = [](const std::string& word) {
    return word.empty() || (word.find_first_of(" \t\r\n") != std::string::npos &&
                            word.find('"') == std::string::npos);
  };
  for (const auto& [name, value] : edit.set)
    if (blank(name) || (!value.empty() && blank(value)))
      f.wrong("set", "a word of the command line holds no blank, unless it is in \"quotes\"");
  for (const char* key : {"add", "remove"})
    for (const std::string& word : key == std::string("add") ? edit.add : edit.remove)
      if (blank(word)) f.wrong(key, "a word of the command line holds no blank");
  return edit;
}

What read_bootconfig(Fields& f) {
  BootconfigEdit edit{f.pairs("set"), f.texts("remove")};
  if (!f.has("set") && !f.has("remove")) f.wrong("neither set nor remove");
  return edit;
}

What read_header(Fields& f) {
  HeaderEdit edit{f.pairs("set")};
  if (!f.has("set")) f.wrong("set is missing");
  return edit;
}

struct Kind {
  std::string_view name;
  Home home;
  What (*read)(Fields& fields);
  Names names = Names::All;  ///< that its texts may have
};
constexpr std::array kKinds{
    Kind{"put", Home::StartRamdisk, read_put},
    Kind{"folder", Home::StartRamdisk, read_folder},
    Kind{"put-tree", Home::StartRamdisk, read_put_tree},
    Kind{"remove", Home::StartRamdisk, read_remove},
    Kind{"move", Home::StartRamdisk, read_move},
    Kind{"link", Home::StartRamdisk, read_link},
    Kind{"chmod", Home::StartRamdisk, read_chmod},
    Kind{"line-add", Home::StartRamdisk, read_line_add},
    Kind{"line-replace", Home::StartRamdisk, read_line_replace},
    Kind{"line-remove", Home::StartRamdisk, read_line_remove},
    Kind{"property", Home::StartRamdisk, read_property},
    Kind{"fstab-drop", Home::Mounts, read_fstab_drop},
    Kind{"fstab-set", Home::Mounts, read_fstab_set},
    Kind{"fstab-add", Home::Mounts, read_fstab_add},
    Kind{"change-list", Home::StartRamdisk, read_change_list},
    Kind{"cmdline", Home::Cmdline, read_cmdline},
    Kind{"bootconfig", Home::Bootconfig, read_bootconfig},
    Kind{"header", Home::Header, read_header, Names::Parameters},
    Kind{"kernel-bytes", Home::Kernel, read_kernel_bytes, Names::Parameters},
    Kind{"kernel-program", Home::Kernel, read_kernel_program},
    Kind{"dt-property", Home::Trees, read_tree_property},
    Kind{"dt-node", Home::Trees, read_tree_node, Names::Parameters},
    Kind{"part", Home::Kernel, read_part, Names::Parameters},
    Kind{"fragment", Home::VendorRamdisk, read_fragment, Names::Parameters},
    Kind{"vbmeta-flags", Home::Vbmeta, read_vbmeta_flags, Names::Parameters},
};

Home home_of_part(const std::string& part, Home ramdisk) {
  if (part == "ramdisk") return ramdisk;
  if (part == "dtb" || part == "dt" || part == "recovery_dtbo") return Home::Trees;
  return Home::Kernel;
}

/// Where the file edits and line edits of a recipe go; others have one home.
Home ramdisk_home(Fields& f) {
  const std::string word = f.text_or("ramdisk", "start");
  if (word == "recovery") return Home::RecoveryRamdisk;
  if (word == "vendor") return Home::VendorRamdisk;
  if (word != "start") f.wrong("ramdisk", "ramdisk is one of: start, recovery, vendor");
  return Home::StartRamdisk;
}

}  // namespace

Edit read_edit(const toml::table& table, Reading& reading) {
  Fields f(table, reading);
  Edit edit{.kind = f.text("kind"), .line = table.source().begin.line};
  const auto row = std::ranges::find(kKinds, edit.kind, &Kind::name);
  if (row == kKinds.end()) {
    if (edit.kind.empty()) return edit;
    std::vector<std::string_view> names;
    for (const Kind& kind : kKinds)
      names.push_back(kind.name);
    f.wrong("kind", fmt::format("no such kind of edit: \"{}\"", edit.kind), ErrorCode::Unsupported);
    reading.mistakes.back().expected = fmt::format("{}", fmt::join(names, ", "));
    reading.mistakes.back().found = edit.kind;
    return edit;
  }
  edit.home = row->home;
  edit.partition = f.text_or("partition", "");
  edit.may_miss = f.flag("may_miss");
  const bool in_ramdisk = edit.home == Home::StartRamdisk || edit.kind == "part";
  const Home ramdisk = in_ramdisk ? ramdisk_home(f) : edit.home;
  if (in_ramdisk || edit.home == Home::Mounts) edit.fragment = f.text_or("fragment", "");
  f.allow(row->names);
  edit.what = row->read(f);
  f.allow(Names::Parameters);
  if (edit.home == Home::StartRamdisk) {
    edit.home = ramdisk;
    edit.creates = f.flag("create");
    if (edit.creates && ramdisk != Home::StartRamdisk)
      f.wrong("create", "create is for the ramdisk that a normal start runs");
  }
  if (const auto* part = std::get_if<PartEdit>(&edit.what))
    edit.home = home_of_part(part->part, ramdisk);
  // A fragment is one of vendor_boot's, whoever asks for it.
  if (!edit.fragment.empty() && edit.home == Home::StartRamdisk) edit.home = Home::VendorRamdisk;
  if (const toml::table* when = f.table("when")) edit.when = read_conditions(*when, reading);
  f.finish();
  edit.open = f.open();
  edit.settings = f.settings();
  return edit;
}

}  // namespace wexlo
