/// Edits of an image outside its ramdisks: texts that the kernel reads, header fields, the kernel,
/// device trees, vbmeta flags.

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/digest.hpp"
#include "image/boot.hpp"
#include "image/device_tree.hpp"
#include "image/kernel.hpp"
#include "image/words.hpp"
#include "parts/fields.hpp"
#include "recipe/work.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

std::vector<std::size_t> find_all(View bytes, View pattern) {
  std::vector<std::size_t> out;
  const std::string_view text = as_text(bytes), wanted = as_text(pattern);
  for (auto at = text.find(wanted); at != text.npos; at = text.find(wanted, at + wanted.size()))
    out.push_back(at);
  return out;
}

/// The value of a header field as parts.toml would have it.
std::string field_text(const Image& image, const std::string& name) {
  for (const auto& field : parts::editable_fields(image))
    if (field.name == name) return field.value;
  return {};
}

bool is_of_tree(const dt::DtBlob& tree, const std::string& wanted) {
  const auto has = [&](const std::string& text) { return text.find(wanted) != text.npos; };
  return wanted.empty() || has(tree.facts.model) || std::ranges::any_of(tree.facts.compatible, has);
}

std::string value_text(const std::map<std::string, Bytes>& tree, const std::string& key) {
  const auto at = tree.find(key);
  if (at == tree.end()) return "(none)";
  const std::string_view text = as_text(at->second);
  const bool readable = text.size() > 1 && text.back() == '\0' &&
                        std::ranges::all_of(text.substr(0, text.size() - 1), [](char c) {
                          return (c >= ' ' && c < 127) || c == '\0';
                        });
  if (!readable) return at->second.empty() ? "(present)" : hex(at->second);
  std::string out(text.substr(0, text.size() - 1));
  std::ranges::replace(out, '\0', '|');
  return out;
}

}  // namespace

std::vector<TreePlace> tree_places(const Image& image, const DecodeLimit& limit) {
  std::vector<TreePlace> out;
  if (image.kind() == "dt-table") {
    out.push_back({"entries", 0, dt::whole_table(image)});
    return out;
  }
  for (const Section& section : image.sections()) {
    if (section.bytes.empty()) continue;
    std::size_t at = 0;
    if (section.name == "kernel") {
      const kernel::Kernel kernel = kernel::read(section.bytes, limit);
      if (kernel.trees.empty()) continue;
      at = kernel.trees_at;
    }
    const Blob place = section.bytes.rest(at);
    if (dt::form_of(place.view()) != dt::Form::None) out.push_back({section.name, at, place});
  }
  return out;
}

Status put_trees(Work& work, const TreePlace& place, const std::map<std::size_t, Blob>& fresh) {
  WEXLO_TRY(Bytes trees, dt::replace(place.bytes, fresh));
  if (work.image.kind() == "dt-table") {
    // The table's own header says how long it is: it is parsed again as a whole.
    append(trees, work.image.tail().view());
    const Blob prefix = work.image.prefix();
    WEXLO_TRY(Image table, dt::parse_table(Blob(std::move(trees))));
    work.image = std::move(table);
    if (!prefix.empty()) work.image.set_prefix(prefix);
    return {};
  }
  Bytes section = to_bytes(work.image.section(place.section)->bytes.view().first(place.at));
  append(section, View(trees));
  if (place.section == "kernel")
    kernel::renew_wrapping(section, work.image.section("kernel")->bytes.view());
  return work.image.replace(place.section, Blob(std::move(section)));
}

Result<Outcome> each_tree(Work& work, const std::string& wanted, bool removes,
                          const ChangeTree& change) {
  bool found = false, changed = false;
  for (const TreePlace& place : tree_places(work.image, decode_limit(work.context))) {
    const auto trees = dt::blobs(place.bytes);
    std::map<std::size_t, Blob> fresh;
    for (std::size_t i = 0; i < trees.size(); ++i) {
      if (!is_of_tree(trees[i], wanted) || !dt::is_editable(trees[i].fdt.view())) continue;
      WEXLO_TRY(const dt::TreeEdit edited, change({place.section, i}, trees[i].fdt));
      found |= edited.found;
      changed |= edited.changed;
      if (edited.changed) fresh[i] = edited.fdt;
    }
    if (!fresh.empty()) WEXLO_CHECK(put_trees(work, place, fresh));
  }
  return changed   ? Outcome::Applied
         : found   ? Outcome::AlreadyDone
         : removes ? work.absent()
                   : Outcome::NoMatch;
}

Result<dt::TreeEdit> set_tree_property(Work& work, const TreeAt& at, const Blob& tree,
                                       const std::string& node, const std::string& property,
                                       const std::optional<Bytes>& value) {
  WEXLO_TRY(dt::TreeEdit done, dt::set_property(tree.view(), node, property, value));
  if (!done.changed) return done;
  const std::string key = node + ":" + property;
  const std::string where = fmt::format("{} device tree {} {}", at.first, at.second, key);
  const std::string before = value_text(dt::flattened(tree.view()), key);
  const std::string after = value_text(dt::flattened(done.fdt.view()), key);
  work.intent.trees[at][key] = "set by a recipe";
  work.detail(fmt::format("{}: {} -> {}", where, before, after));
  work.tell(where, before, after);
  return done;
}

Status put_cmdline(Work& work, const std::string& before, const std::string& after) {
  WEXLO_CHECK(boot::set_cmdline(work.image, after));
  for (const char* field : {"cmdline", "extra_cmdline"})
    work.intent.fields[field] = "command line edited by a recipe";
  work.detail(fmt::format("command line: {} -> {}", before, after));
  return {};
}

Result<Outcome> apply(Work& work, const CmdlineEdit& edit) {
  const std::string before = boot::cmdline(work.image);
  std::string after = before;
  bool found = !edit.set.empty() || !edit.add.empty();
  for (const std::string& word : edit.remove) {
    std::string next = words::remove(after, word);
    found |= next != after;
    if (next != after) judge_word(work, word.substr(0, word.find('=')), "");
    after = std::move(next);
  }
  for (const auto& [name, value] : edit.set) {
    if (words::set(after, name, value) != after) judge_word(work, name, value);
    after = words::set(after, name, value);
  }
  for (const std::string& word : edit.add) {
    const auto cut = std::min(word.find('='), word.size());
    if (words::add(after, word) != after)
      judge_word(work, word.substr(0, cut), cut < word.size() ? word.substr(cut + 1) : "");
    after = words::add(after, word);
  }
  if (!found) return work.absent();
  if (after == before) return Outcome::AlreadyDone;
  WEXLO_CHECK(put_cmdline(work, before, after));
  // Told by the word, so that two recipes only meet where they mean the same one.
  const auto was = words::split(before), is = words::split(after);
  for (const std::string& word : was)
    if (std::ranges::find(is, word) == is.end()) {
      const std::string name = word.substr(0, word.find('='));
      const auto now = std::ranges::find_if(
          is, [&](const std::string& other) { return other.substr(0, other.find('=')) == name; });
      work.tell("cmdline " + name, word, now == is.end() ? "(none)" : *now);
    }
  for (const std::string& word : is) {
    const std::string name = word.substr(0, word.find('='));
    const bool known = std::ranges::any_of(
        was, [&](const std::string& other) { return other.substr(0, other.find('=')) == name; });
    if (!known) work.tell("cmdline " + name, "(none)", word);
  }
  return Outcome::Applied;
}

Result<Outcome> apply(Work& work, const BootconfigEdit& edit) {
  const std::string before = boot::bootconfig(work.image);
  std::string after = before;
  bool found = !edit.set.empty();
  for (const std::string& key : edit.remove) {
    std::string next = words::remove_bootconfig(after, key);
    found |= next != after;
    if (next != after) work.tell("bootconfig " + key, "set", "(none)");
    after = std::move(next);
  }
  for (const auto& [key, value] : edit.set) {
    std::string next = words::set_bootconfig(after, key, value);
    if (next != after) {
      work.tell("bootconfig " + key, "", value);
      judge_word(work, key, value);
    }
    after = std::move(next);
  }
  if (!found) return work.absent();
  if (after == before) return Outcome::AlreadyDone;
  constexpr std::size_t kMost = 32767;  // what a kernel reads
  if (after.size() > kMost)
    return fail({.code = ErrorCode::DoesNotFit,
                 .message = "the bootconfig would be longer than a kernel reads",
                 .expected = fmt::format("at most {} bytes", kMost),
                 .found = fmt::format("{} bytes", after.size())});
  WEXLO_CHECK(work.image.replace("bootconfig", Blob(to_bytes(after))));
  work.intent.sections["bootconfig"] = {sha256_hex(as_view(after)),
                                        "bootconfig edited by a recipe"};
  work.report->effects.clear();
  work.tell_text("bootconfig", as_view(before), as_view(after));
  work.detail(fmt::format("bootconfig: {} -> {} bytes", before.size(), after.size()));
  return Outcome::Applied;
}

Result<Outcome> apply(Work& work, const HeaderEdit& edit) {
  bool changed = false;
  for (const auto& [name, value] : edit.set) {
    const std::string before = field_text(work.image, name);
    const Bytes header = to_bytes(work.image.header());
    const bool number = work.image.layout().field(name) != nullptr &&
                        work.image.layout().field(name)->type != FieldType::Text;
    if (auto set = parts::set_field(work.image, {name, value, number}); !set) {
      Error error = std::move(set).error();
      error.message = fmt::format("recipe {}: {}", work.edit->recipe, error.message);
      return fail(std::move(error));
    }
    if (equal(work.image.header(), header)) continue;
    changed = true;
    const std::string field = name == "patch_level" ? "os_version" : name;
    work.intent.fields[field] = "set by a recipe";
    if (field == "cmdline") work.intent.fields["extra_cmdline"] = "set by a recipe";
    work.detail(fmt::format("{}: {} -> {}", name, before, field_text(work.image, name)));
    work.tell("header " + name, before, field_text(work.image, name));
  }
  return changed ? Outcome::Applied : Outcome::AlreadyDone;
}

Result<Outcome> put_in_kernel(Work& work, const kernel::Body& body,
                              const std::vector<std::size_t>& places, const KernelBytesEdit& edit) {
  Bytes fresh = to_bytes(body.decoded.view());
  for (const std::size_t at : places) {
    std::ranges::copy(edit.replace, fresh.begin() + static_cast<std::ptrdiff_t>(at));
    work.intent.kernel.push_back({at, edit.replace.size(), "bytes replaced by a recipe"});
    work.detail(fmt::format("kernel at 0x{:x} (unpacked): {}", at, edit.shown));
    work.tell(fmt::format("kernel 0x{:x}", at), hex(edit.find), hex(edit.replace));
  }
  const Blob& section = work.image.section("kernel")->bytes;
  WEXLO_TRY(Bytes packed, kernel::with_body(section, body, Blob(std::move(fresh)), work.context));
  WEXLO_CHECK(work.image.replace("kernel", Blob(std::move(packed))));
  return Outcome::Applied;
}

Result<Outcome> replace_kernel_bytes(Work& work, const KernelBytesEdit& edit) {
  const Section* section = work.image.section("kernel");
  if (section == nullptr || section->bytes.empty()) return Outcome::NoMatch;
  WEXLO_TRY(const kernel::Body body, kernel::open_body(section->bytes, decode_limit(work.context)));
  const auto places = find_all(body.decoded.view(), edit.find);
  if (places.empty())
    return find_all(body.decoded.view(), edit.replace).size() >= edit.count.value_or(1)
               ? Outcome::AlreadyDone
               : Outcome::NoMatch;
  if (edit.count && places.size() != *edit.count)
    return fail({.code = ErrorCode::BadValue,
                 .message = fmt::format("the bytes to replace ({}) stand in the kernel another "
                                        "number of times than the recipe says",
                                        edit.shown),
                 .expected = fmt::format("{}", *edit.count),
                 .found = fmt::format("{}", places.size()),
                 .hint = "A longer pattern is exact: take bytes around the ones to change."});
  return put_in_kernel(work, body, places, edit);
}

Result<Outcome> apply(Work& work, const KernelBytesEdit& edit) {
  return replace_kernel_bytes(work, edit);
}

Result<Outcome> apply(Work& work, const TreePropertyEdit& edit) {
  const auto one = [&](const TreeAt& at, const Blob& tree) -> Result<dt::TreeEdit> {
    WEXLO_TRY(dt::TreeEdit done,
              set_tree_property(work, at, tree, edit.node, edit.property, edit.value));
    if (done.changed && edit.property == "bootargs" && edit.value)
      for (const std::string& word : words::split(until_nul(*edit.value)))
        if (const auto cut = word.find('='); cut != word.npos)
          judge_word(work, word.substr(0, cut), word.substr(cut + 1));
    return done;
  };
  return each_tree(work, edit.tree, !edit.value, one);
}

Result<Outcome> apply(Work& work, const TreeNodeEdit& edit) {
  const auto one = [&](const TreeAt& at, const Blob& tree) -> Result<dt::TreeEdit> {
    WEXLO_TRY(const auto done, edit.remove ? dt::remove_node(tree.view(), edit.node)
                                           : dt::add_node(tree.view(), edit.node));
    if (!done.changed) return done;
    const std::string where = fmt::format("{} device tree {} {}", at.first, at.second, edit.node);
    auto& meant = work.intent.trees[at];
    meant[edit.node] = edit.remove ? "node removed by a recipe" : "node added by a recipe";
    if (edit.remove)
      for (const auto& [key, value] : dt::flattened(tree.view()))
        if (key.starts_with(edit.node + "/") || key.starts_with(edit.node + ":"))
          meant[key] = "node removed by a recipe";
    work.detail(fmt::format("{}: {}", where, edit.remove ? "removed" : "added"));
    work.tell(where, edit.remove ? "node" : "(none)", edit.remove ? "(none)" : "node");
    return done;
  };
  return each_tree(work, edit.tree, edit.remove, one);
}

Result<Outcome> apply(Work& work, const VbmetaFlagsEdit& edit) {
  // Without a vbmeta partition the top-level struct is the one that boot's own footer leads to.
  const bool own = work.image.kind() != "vbmeta";
  std::optional<Image> in_footer;
  if (own) {
    WEXLO_TRY(in_footer, verified::own_struct(work.stock.bytes.view()));
    if (!in_footer) return Outcome::NoMatch;
  }
  const Image& vbmeta = own ? *in_footer : work.image;
  const std::uint64_t before =
      own && work.intent.struct_flags ? *work.intent.struct_flags : vbmeta.number("flags");
  const std::uint64_t after = (before | edit.set) & ~std::uint64_t{edit.clear};
  if (before == after) return Outcome::AlreadyDone;
  if (own) {
    work.intent.struct_flags = static_cast<std::uint32_t>(after);
    if (after == vbmeta.number("flags")) work.intent.struct_flags.reset();
  } else {
    WEXLO_CHECK(work.image.set_number("flags", after));
    work.intent.fields["flags"] = "set by a recipe";
  }
  const auto named = [](std::uint64_t flags) {
    return flags == 0 ? std::string("none set")
                      : fmt::format("{}", fmt::join(verified::flag_names(flags), ", "));
  };
  work.detail(fmt::format("flags {} -> {} ({})", before, after, named(after)));
  work.tell("vbmeta flags", named(before), named(after));
  judge_vbmeta(work, after & ~before);
  if (!own && vbmeta.number("algorithm_type") != 0)
    work.note(
        {"The signature of vbmeta is stale now: an unlocked phone goes on, a locked one "
         "refuses it. Never lock the phone with this image.",
         true});
  return Outcome::Applied;
}

}  // namespace wexlo
