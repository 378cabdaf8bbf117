/// What an edit says of itself: one line for people, a digest for the journal.

#include "recipe/edit.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <array>

#include "base/digest.hpp"
#include "base/word_table.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

constexpr std::array<std::string_view, 3> kFilePackWords{"none", "gzip", "xz"};

std::string joined(const std::vector<std::string>& words) {
  return fmt::format("{}", fmt::join(words, ", "));
}

std::string joined(const Pairs& pairs) {
  std::string out;
  for (const auto& [key, value] : pairs)
    out += fmt::format("{}{}{}{}", out.empty() ? "" : ", ", key, value.empty() ? "" : "=", value);
  return out;
}

std::string keeping(bool keep_stock) {
  return keep_stock ? ", keeping the stock file" : "";
}

std::string packed(FilePack pack) {
  return pack == FilePack::None ? "" : fmt::format(" as {}", file_pack_word(pack));
}

std::string keeping(const KeepStock& keep) {
  if (!keep.kept || keep.path.empty()) return keeping(keep.kept) + packed(keep.pack);
  return fmt::format(", keeping the stock file at /{}", keep.path) + packed(keep.pack);
}

std::string access(const Access& access) {
  std::string out;
  if (access.mode) out += fmt::format(" mode {:04o}", *access.mode);
  if (access.uid) out += fmt::format(" uid {}", *access.uid);
  if (access.gid) out += fmt::format(" gid {}", *access.gid);
  return out.empty() ? out : ":" + out;
}

std::string set_and_removed(const Pairs& set, const std::vector<std::string>& removed) {
  std::string out;
  if (!set.empty()) out = "set " + joined(set);
  if (!removed.empty()) out += (out.empty() ? "remove " : ", remove ") + joined(removed);
  return out;
}

std::string lines(std::size_t count) {
  return fmt::format("{} line{}", count, count == 1 ? "" : "s");
}

struct Summary {
  std::string operator()(const PutEdit& e) const {
    return fmt::format("put {}{} at /{}{}", e.text ? "a text" : e.from.shown, packed(e.pack),
                       e.path, keeping(e.keep_stock));
  }
  std::string operator()(const FolderEdit& e) const {
    return fmt::format("make the folder /{}", e.path) + access(e.access);
  }
  std::string operator()(const PutTreeEdit& e) const {
    return fmt::format("put all of {} at /{}{}", e.from.shown, e.path, keeping(e.keep_stock));
  }
  std::string operator()(const RemoveEdit& e) const {
    return fmt::format("remove /{}{}", e.path, keeping(e.keep_stock));
  }
  std::string operator()(const MoveEdit& e) const {
    return fmt::format("move /{} to /{}", e.path, e.to);
  }
  std::string operator()(const LinkEdit& e) const {
    return fmt::format("link /{} to {}{}", e.path, e.target, keeping(e.keep_stock));
  }
  std::string operator()(const ChmodEdit& e) const {
    return fmt::format("set access of /{}", e.path) + access(e.access);
  }
  std::string operator()(const LineAddEdit& e) const {
    const std::string where = e.at == "end" || e.at == "start"
                                  ? fmt::format("at the {}", e.at)
                                  : fmt::format("{} the line {}", e.at, e.anchor.text());
    return fmt::format("add {} to /{} {}", lines(e.lines.size()), e.file, where);
  }
  std::string operator()(const LineReplaceEdit& e) const {
    return fmt::format("replace lines {} in /{}", e.match.text(), e.file);
  }
  std::string operator()(const LineRemoveEdit& e) const {
    return fmt::format("remove lines {} from /{}", e.match.text(), e.file);
  }
  std::string operator()(const PropertyEdit& e) const {
    return fmt::format("{} in {}", set_and_removed(e.set, e.remove),
                       e.file.empty() ? "the property file" : "/" + e.file);
  }
  std::string operator()(const FstabDropEdit& e) const {
    return fmt::format("drop fstab flags {} at {}", joined(e.flags), mount(e.mount_point));
  }
  std::string operator()(const FstabSetEdit& e) const {
    return fmt::format("set fstab flags {} at {}", joined(e.flags), mount(e.mount_point));
  }
  std::string operator()(const FstabAddEdit& e) const {
    return fmt::format("mount {} at {}", e.device, e.mount_point);
  }
  std::string operator()(const ChangeListEdit& e) const {
    return fmt::format("list what was changed in /{}", e.path);
  }
  std::string operator()(const CmdlineEdit& e) const {
    Pairs set = e.set;
    for (const std::string& word : e.add)
      set.emplace_back(word, "");
    return set_and_removed(set, e.remove) + " in the command line";
  }
  std::string operator()(const BootconfigEdit& e) const {
    return set_and_removed(e.set, e.remove) + " in the bootconfig";
  }
  std::string operator()(const HeaderEdit& e) const {
    return fmt::format("set {} in the header", joined(e.set));
  }
  std::string operator()(const KernelBytesEdit& e) const {
    return fmt::format("replace {} in the kernel, {}", e.shown,
                       !e.count        ? "wherever it stands"
                       : *e.count == 1 ? "once"
                                       : fmt::format("{} times", *e.count));
  }
  std::string operator()(const KernelProgramEdit& e) const {
    return fmt::format("run {} on the kernel", e.from.shown);
  }
  std::string operator()(const TreePropertyEdit& e) const {
    return fmt::format("device tree {}{}: {} is {}", e.node, of_tree(e.tree), e.property, e.shown);
  }
  std::string operator()(const TreeNodeEdit& e) const {
    return fmt::format("{} device tree node {}{}", e.remove ? "remove" : "add", e.node,
                       of_tree(e.tree));
  }
  std::string operator()(const PartEdit& e) const {
    return fmt::format("replace the {} by {} {}", e.part,
                       e.take.empty() ? "that of" : e.take + " of", e.from.shown);
  }
  std::string operator()(const FragmentEdit& e) const {
    const std::string what =
        fmt::format("fragment {} ({})", e.key.name.empty() ? "without a name" : e.key.name,
                    boot::ramdisk_type_name(e.key.type));
    return e.remove ? "take out the " + what
                    : fmt::format("add the {} from {}", what, e.from.shown);
  }
  std::string operator()(const VbmetaFlagsEdit& e) const {
    const auto set = verified::flag_names(e.set), clear = verified::flag_names(e.clear);
    if (clear.empty()) return fmt::format("set vbmeta flags {}", joined(set));
    if (set.empty()) return fmt::format("clear vbmeta flags {}", joined(clear));
    return fmt::format("set vbmeta flags {}, clear {}", joined(set), joined(clear));
  }

  static std::string mount(const std::string& mount_point) {
    return mount_point == "*" ? "every mount point" : mount_point;
  }
  static std::string of_tree(const std::string& tree) {
    return tree.empty() ? "" : fmt::format(" (trees with {})", tree);
  }
};

}  // namespace

std::string_view file_pack_word(FilePack pack) {
  return kFilePackWords[static_cast<std::size_t>(pack)];
}

std::optional<FilePack> file_pack_of(std::string_view word) {
  return of_word<FilePack>(kFilePackWords, word);
}

std::string LineMatch::text() const {
  std::string out;
  const auto add = [&](std::string_view how, const std::optional<std::string>& what) {
    if (what) out += fmt::format("{}{} \"{}\"", out.empty() ? "" : " and ", how, *what);
  };
  add("that are", line);
  add("with", containing);
  add("beginning with", starting);
  return out;
}

bool LineMatch::matches(std::string_view text) const {
  constexpr std::string_view kBlanks = " \t\r\n";
  const auto begin = text.find_first_not_of(kBlanks);
  const std::string_view bare =
      begin == text.npos ? std::string_view()
                         : text.substr(begin, text.find_last_not_of(kBlanks) - begin + 1);
  return (!line || bare == *line) && (!containing || bare.find(*containing) != bare.npos) &&
         (!starting || bare.starts_with(*starting));
}

std::string FstabAddEdit::line() const {
  return fmt::format("{} {} {} {} {}", device, mount_point, type, options, fmt::join(flags, ","));
}

bool Conditions::empty() const {
  return architectures.empty() && layouts.empty() && partitions.empty() &&
         header_versions.empty() && !sdk_at_least && !sdk_at_most && generations.empty() &&
         kernels.empty();
}

std::string Edit::summary() const {
  return std::visit(Summary{}, what);
}

std::string Edit::place() const {
  return std::visit(
      []<class E>(const E& edit) -> std::string {
        if constexpr (requires { edit.path; })
          return edit.path;
        else if constexpr (requires { edit.file; })
          return edit.file;
        else
          return {};
      },
      what);
}

bool Edit::replaces_init() const {
  if (home != Home::StartRamdisk) return false;
  if (std::holds_alternative<PutEdit>(what) || std::holds_alternative<LinkEdit>(what))
    return place() == "init";
  const auto* move = std::get_if<MoveEdit>(&what);
  return move != nullptr && move->to == "init";
}

const FileRef* Edit::file() const {
  if (const auto* put = std::get_if<PutEdit>(&what)) return put->text ? nullptr : &put->from;
  if (const auto* tree = std::get_if<PutTreeEdit>(&what)) return &tree->from;
  if (const auto* part = std::get_if<PartEdit>(&what)) return &part->from;
  if (const auto* one = std::get_if<KernelProgramEdit>(&what)) return &one->from;
  if (const auto* one = std::get_if<FragmentEdit>(&what)) return one->remove ? nullptr : &one->from;
  return nullptr;
}

FileRef* Edit::file() {
  return const_cast<FileRef*>(std::as_const(*this).file());
}

std::string Edit::digest() const {
  Hasher hasher(DigestKind::Sha256);
  hasher.update(as_view(settings));
  if (const FileRef* brought = file()) hasher.update(as_view(brought->digest()));
  return hex(hasher.finish());
}

}  // namespace wexlo
