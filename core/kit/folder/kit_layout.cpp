#include "kit/folder/kit_layout.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "archive/bundle.hpp"
#include "kit/folder/kit_folder.hpp"

namespace wexlo {
namespace {

/// One download has 32 bits for its size.
constexpr std::uint64_t kMostAtOnce = 0xFFFFFFFF;

/// The device's codename, as a word that can stand in a file's name.
std::string device_word(const BuildFacts& build) {
  std::string out = build.device.substr(0, build.device.find_first_of("|,"));
  for (char& c : out)
    if (!std::isalnum(static_cast<unsigned char>(c)) && c != '-' && c != '_') c = '-';
  return out.empty() ? "phone" : out;
}

class Layouter {
 public:
  Layouter(const LayoutInput& input, KitImages& images, const Context& context)
      : input_(input), images_(images), context_(context) {}

  Result<KitLayout> run() {
    for (KitImage& image : images_) {
      if (!image.written) continue;
      WEXLO_TRY(image.flash, place(image.content, "flash/" + image.partition, image.patched.bytes,
                                   image.patched.sha256));
      if (image.stock) {
        WEXLO_TRY(image.stock_files, place(image.stock, "stock/" + image.partition,
                                           image.stock_bytes, image.stock_sha256));
      }
    }
    WEXLO_CHECK(contents());
    WEXLO_CHECK(given());
    if (input_.install) {
      out_.install = {"install/" + std::string(base_name(input_.install->file)),
                      input_.install->source->size()};
      out_.entries.push_back({.name = out_.install.file, .source = input_.install->source});
    }
    if (!input_.key.empty()) {
      out_.key = {std::string(kKitKey), input_.key.size()};
      const Blob key(Bytes(input_.key));
      out_.entries.push_back({out_.key.file, open_memory(key, out_.key.file), {}, key, {}});
    }
    if (input_.way == Way::Download) packages();
    return std::move(out_);
  }

 private:
  [[nodiscard]] std::uint64_t limit() const {
    return std::min(input_.download_limit.value_or(kMostAtOnce), kMostAtOnce);
  }

  /// An image whole or, above the phone's download limit, in sparse pieces.
  Result<KitContent> place(const SourcePtr& source, const std::string& stem, const Blob& bytes,
                           const std::string& sha256) {
    KitContent out{.file = {}, .size = source->size()};
    // Other programs take packages whole: what a download may have is the bootloader's matter.
    if (source->size() <= limit() || input_.way == Way::Download) {
      out.file = stem + ".img";
      out_.entries.push_back({out.file, source, {}, bytes, sha256});
      return out;
    }
    WEXLO_TRY(const auto cuts, cut_sparse({*source}, limit(), context_));
    for (const SparseCut& cut : cuts) {
      // What is mostly empty may go in one piece after all.
      const std::string name = cuts.size() == 1
                                   ? stem + ".img"
                                   : fmt::format("{}.piece-{}.img", stem, out.pieces.size() + 1);
      out_.entries.push_back({name, source, cut, {}, {}});
      if (cuts.size() == 1)
        out.file = name;
      else
        out.pieces.push_back({name});
    }
    return out;
  }

  /// What was given is kept as it was, for a kit that is made once more.
  Status given() {
    for (const Given& one : input_.given) {
      WEXLO_TRY(KitGiven kept, kept_given(one, images_));
      if (kept.file.starts_with(kKitGiven)) out_.entries.push_back({kept.file, one.source});
      out_.given.push_back(std::move(kept));
    }
    if (input_.install) {
      WEXLO_TRY(KitGiven kept, kept_given(*input_.install, images_));
      out_.given.push_back(std::move(kept));
    }
    return {};
  }

  /// What dropped partitions held, where the firmware has it.
  Status contents() {
    for (const RoomPlan& room : input_.rooms)
      for (const RoomStep& step : room.steps) {
        if (step.act != RoomAct::Drop || step.leftover || out_.contents.contains(step.partition))
          continue;
        const PartitionFacts* stock =
            stock_image(input_.firmware, step.partition, input_.firmware_name);
        if (stock == nullptr) continue;
        WEXLO_TRY(const SourcePtr source, stock->content->source(context_));
        // More than it had would not go back in.
        if (source->size() > step.before) continue;
        WEXLO_TRY(KitContent placed, place(source, "stock/" + step.partition, {}, {}));
        if (!placed.file.empty()) placed.pieces = {{placed.file, placed.size}};
        out_.contents.emplace(step.partition, std::move(placed.pieces));
      }
    return {};
  }

  void packages() {
    for (const KitImage& image : images_) {
      if (!image.written) continue;
      if (image.is_logical()) {
        out_.images.super = out_.stock.super = true;
        continue;
      }
      auto& where = image.before_install ? out_.first : out_.images;
      where.members.push_back({image.partition, image.content});
      if (image.stock) out_.stock.members.push_back({image.partition, image.stock});
      find_field(image.partition);
    }
    if (out_.images.super) find_field("super");
    const auto name = [&](TarPlan& tar, std::string_view word) {
      if (!tar.members.empty() || tar.super)
        tar.name = fmt::format("package/{}-{}.tar.md5", device_word(input_.firmware.build), word);
    };
    name(out_.first, "first");
    name(out_.images, input_.restore ? "stock" : "kit");
    // Of stock images the one tar is the way back, too.
    if (input_.restore)
      out_.stock = {.name = out_.images.name};
    else
      name(out_.stock, "stock");
  }

  /// The file of a download-mode set that has this partition.
  void find_field(const std::string& partition) {
    const auto found = input_.firmware.choose(partition, input_.firmware_name);
    if (!out_.tar_field.empty() || !found) return;
    const std::string& from = (*found)->from;
    const std::size_t mark = from.find_last_of('!');
    if (mark != from.npos) out_.tar_field = base_name(std::string_view(from).substr(0, mark));
  }

  const LayoutInput& input_;
  KitImages& images_;
  const Context& context_;
  KitLayout out_;
};

}  // namespace

Result<KitLayout> lay_out(const LayoutInput& input, KitImages& images, const Context& context) {
  return Layouter(input, images, context).run();
}

const PartitionFacts* stock_image(const Firmware& firmware, const std::string& name,
                                  const std::string& firmware_name) {
  for (const std::string& one : {name, std::string(without_slot(name))})
    if (const auto found = firmware.choose(one, firmware_name); found && (*found)->size > 0)
      return *found;
  return nullptr;
}

}  // namespace wexlo
