/// Kinds of edit that are about other parts of an image than its ramdisks' files.

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>

#include "recipe/read_kinds.hpp"
#include "text/hex.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

/// Hex digits, blanks allowed; or text as it is.
Bytes pattern(Fields& f, const std::string& hex_key, const std::string& text_key) {
  if (const auto text = f.optional_text(text_key)) return to_bytes(*text);
  std::string digits;
  for (const char c : f.text_or(hex_key, ""))
    if (c != ' ' && c != '\t') digits += c;
  auto out = bytes_of_hex(digits);
  if (!out) f.wrong(hex_key, "pairs of hex digits are wanted");
  return out.value_or(Bytes{});
}

void append_cells(Fields& f, Bytes& out) {
  BeWriter writer(out);
  for (const std::uint32_t cell : f.numbers("cells"))
    writer.put(cell);
}

}  // namespace

What read_kernel_bytes(Fields& f) {
  KernelBytesEdit edit{pattern(f, "find", "find_text"), pattern(f, "replace", "replace_text")};
  if (f.is_text("count")) {
    if (f.text("count") != "any") f.wrong("count", "count is a number, or \"any\"");
    edit.count.reset();
  } else if (f.has("count")) {
    edit.count = f.number("count", 1u << 16, 1).value_or(1);
  }
  if (edit.find.empty()) f.wrong("what is looked for? Say find (hex) or find_text");
  if (edit.find.size() != edit.replace.size())
    f.wrong(
        fmt::format("find has {} bytes and replace {}: a kernel's bytes can only be replaced "
                    "by as many",
                    edit.find.size(), edit.replace.size()));
  else if (edit.find == edit.replace && !edit.find.empty())
    f.wrong("find and replace are the same");
  edit.shown = f.has("find_text") && f.has("replace_text")
                   ? fmt::format("\"{}\" by \"{}\"", as_text(edit.find), as_text(edit.replace))
                   : fmt::format("{} by {}", hex(edit.find), hex(edit.replace));
  return edit;
}

What read_kernel_program(Fields& f) {
  constexpr std::uint32_t kMostSeconds = 3600;
  KernelProgramEdit edit{f.file("from"), {}, f.number("seconds", kMostSeconds, 1).value_or(60)};
  f.let_stand({"in", "out"});
  edit.arguments =
      f.has("arguments") ? f.texts("arguments") : std::vector<std::string>{"${in}", "${out}"};
  f.let_stand({});
  for (const char* file : {"${in}", "${out}"})
    if (std::ranges::none_of(edit.arguments, [&](const std::string& word) {
          return word.find(file) != std::string::npos;
        }))
      f.wrong("arguments", fmt::format("no argument is {}, so that the program does not get the "
                                       "name of that file",
                                       file));
  return edit;
}

What read_tree_property(Fields& f) {
  TreePropertyEdit edit{f.text("node"), f.text("property"), f.text_or("tree", "")};
  if (!edit.node.starts_with('/')) f.wrong("node", "a node's path begins with \"/\"");
  const bool removes = f.flag("remove");
  const bool texts = f.has("text"), cells = f.has("cells"), bytes = f.has("bytes"),
             empty = f.flag("present");
  if (removes + texts + cells + bytes + empty != 1)
    f.wrong("exactly one of text, cells, bytes, present and remove says what becomes of it");
  Bytes value;
  if (texts)
    for (const std::string& text : f.texts("text"))
      append(value, text + '\0');
  if (cells) append_cells(f, value);
  if (bytes) value = pattern(f, "bytes", "");
  edit.shown = texts   ? fmt::format("\"{}\"", fmt::join(f.texts("text"), "\", \""))
               : cells ? fmt::format("<{:#x}>", fmt::join(f.numbers("cells"), " "))
               : bytes ? hex(value)
               : empty ? std::string("present, without a value")
                       : std::string("removed");
  if (!removes) edit.value = std::move(value);
  return edit;
}

What read_tree_node(Fields& f) {
  TreeNodeEdit edit{f.text("node"), f.text_or("tree", ""), f.flag("remove")};
  if (!edit.node.starts_with('/') || edit.node.size() < 2 || edit.node.ends_with('/'))
    f.wrong("node", "a node's path begins with \"/\" and names a node below the root");
  return edit;
}

What read_part(Fields& f) {
  PartEdit edit{f.text("part"), f.file("from"), f.text_or("take", ""), f.flag("other_version")};
  const std::string pack = f.text_or("pack", "stock");
  edit.as_it_is = pack == "none";
  if (pack != "none" && pack != "stock") f.wrong("pack", "pack is one of: stock, none");
  if (edit.as_it_is && edit.part != "kernel") f.wrong("pack", "pack is a kernel's alone");
  constexpr std::array kParts{"kernel", "ramdisk", "dtb", "second", "recovery_dtbo", "dt"};
  if (!edit.part.empty() && std::ranges::find(kParts, edit.part) == kParts.end())
    f.wrong("part", fmt::format("no part is called that; known: {}", fmt::join(kParts, ", ")));
  return edit;
}

What read_fragment(Fields& f) {
  constexpr std::size_t kMostName = 31;
  FragmentEdit edit{{.name = f.text_or("name", "")}, f.flag("remove"), {}};
  const std::string type = f.text_or("type", "platform");
  if (const auto known = boot::ramdisk_type_named(type))
    edit.key.type = *known;
  else
    f.wrong("type", "type is one of: none, platform, recovery, dlkm, or a number");
  const auto board = f.numbers("board_id");
  if (board.size() > edit.key.board_id.size())
    f.wrong("board_id", "board_id has more than 16 numbers");
  std::copy_n(board.begin(), std::min(board.size(), edit.key.board_id.size()),
              edit.key.board_id.begin());
  if (edit.key.name.size() > kMostName) f.wrong("name", "name is longer than 31 bytes");
  if (edit.remove) {
    if (f.has("from") || f.has("folder")) f.wrong("remove", "what is removed brings no file along");
    return edit;
  }
  const bool folder = f.has("folder");
  if (folder && f.has("from")) f.wrong("from", "from and folder are two contents of one fragment");
  edit.from = f.file(folder ? "folder" : "from", folder);
  return edit;
}

What read_vbmeta_flags(Fields& f) {
  VbmetaFlagsEdit edit;
  for (const auto& [key, into] : {std::pair("set", &edit.set), std::pair("clear", &edit.clear)})
    for (const std::string& word : f.texts(key)) {
      const auto flag = verified::flag_named(word);
      if (flag)
        *into |= *flag;
      else
        f.wrong(key, fmt::format("no vbmeta flag is named \"{}\"; known: hashtree-disabled, "
                                 "verification-disabled",
                                 word));
    }
  if (!f.has("set") && !f.has("clear")) f.wrong("neither set nor clear names a flag");
  if ((edit.set & edit.clear) != 0) f.wrong("set and clear name the same flag");
  return edit;
}

}  // namespace wexlo
