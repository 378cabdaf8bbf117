#include "judge/rules.hpp"

#include <algorithm>
#include <array>

namespace wexlo {
namespace {

using enum Level;

constexpr std::array kRules{
    Rule{"header-form", Problem, false, "magic and header version are known, header_size fits"},
    Rule{"section-bounds", Problem, false, "page size is usual, every section lies in the file"},
    Rule{"partition-size", Problem, false, "the image fits its partition"},
    Rule{"file-length", Warning, false, "whole pages; with a footer as long as the partition"},
    Rule{"tree-section", Problem, false, "recovery_dtbo_offset is true, the dtb section reads"},
    Rule{"id-digest", Warning, false, "the header's id follows a known recipe"},
    Rule{"kernel", Problem, false, "a kernel where one is needed, that decodes, with a banner"},
    Rule{"appended-trees", Problem, false, "device trees behind the kernel as in the stock image"},
    Rule{"maker-prefix", Problem, false, "headers before image and parts as stock, and true"},
    Rule{"enforcing-trailer", Warning, false, "the trailer that the stock image has, in its place"},
    Rule{"ramdisk-packing", Problem, false, "ramdisks decode, in a form that kernels unpack"},
    Rule{"joined-ramdisk", Problem, false, "what the loader joins decodes as one, with an init"},
    Rule{"archive-order", Problem, false, "folders before what is in them, names once, a trailer"},
    Rule{"kernel-modules", Warning, false, "listed modules are there and of the kernel's release"},
    Rule{"mount-table", Problem, false, "fstab reads, and what it names for verification is there"},
    Rule{"text-form", Warning, false, "texts that a start reads end their lines as stock does"},
    Rule{"fragment-table", Problem, false, "vendor_boot's table and its fragments agree"},
    Rule{"version-pair", Problem, false, "boot, init_boot and vendor_boot go together"},
    Rule{"bootconfig", Problem, false, "bootconfig parses and is short enough"},
    Rule{"verified-struct", Problem, false, "footers and verified-boot structs as loaders want"},
    Rule{"image-digest", Problem, true, "the image is the one that its digest is of"},
    Rule{"signature", Problem, true, "signed, with the key that is trusted for it"},
    Rule{"chain-flags", Problem, false, "flags in the top-level struct alone"},
    Rule{"rollback-index", Problem, true, "not lower than what the phone has stored"},
    Rule{"patch-level", Warning, false, "security patch level not older, and the same everywhere"},
    Rule{"os-version", Warning, false, "system version not older"},
    Rule{"slot-state", Problem, false, "all of one build, in a slot that will be started"},
    Rule{"merge-pending", Warning, false, "no update is being merged"},
    Rule{"locked-change", Problem, true, "a locked phone has nothing changed without its key"},
    Rule{"system-digest", Warning, false, "system partitions are what their hash trees say"},
    Rule{"error-correction", Warning, false, "the error correction codes are those of the data"},
    Rule{"super-tables", Problem, false, "every copy of super's tables is sound"},
    Rule{"ramdisk-unused", Note, false, "what is changed in the ramdisk has an effect"},
    Rule{"device-identity", Warning, false, "names and addresses as in the stock image"},
};

}  // namespace

std::span<const Rule> rules() {
  return kRules;
}

const Rule& rule(std::string_view code) {
  return *std::ranges::find(kRules, code, &Rule::code);
}

std::string_view level_name(Level level) {
  constexpr std::array<std::string_view, 3> names{"note", "warning", "problem"};
  return names[static_cast<std::size_t>(level)];
}

void Report::add(std::string_view code, const std::string& where, std::string message,
                 bool untouched, std::optional<Level> level) {
  Level now = level.value_or(rule(code).level);
  if (untouched && now != Level::Note) now = static_cast<Level>(static_cast<int>(now) - 1);
  findings_.push_back({std::string(level_name(now)), std::string(code), std::move(message), where});
}

}  // namespace wexlo
