#include "kit/folder/kit_package.hpp"

#include <algorithm>

#include "archive/bundle.hpp"
#include "archive/tar_write.hpp"
#include "codec/packing.hpp"
#include "firmware/super_write.hpp"

namespace wexlo {
namespace {

constexpr std::string_view kSumEnding = ".md5";

class Packager {
 public:
  Packager(KitFolder& folder, const LayoutInput& input) : folder_(folder), input_(input) {}

  Status add(const std::string& partition, const SourcePtr& content,
             const std::vector<ByteRange>& given = {}) {
    const auto found = input_.firmware.choose(partition, input_.firmware_name);
    const PartitionFacts* stock = found ? *found : nullptr;
    std::string name = partition + ".img";
    if (stock != nullptr && !stock->from.empty())
      name = base_name(std::string_view(stock->from).substr(stock->from.find_last_of('!') + 1));
    SourcePtr packed = content;
    if (stock != nullptr && stock->sparse) {
      WEXLO_TRY(packed, as_sparse({*packed, given}, name, folder_.context()));
    }
    if (name.ends_with(".lz4")) {
      WEXLO_TRY(packed, pack_source(*packed, Compression::Lz4Frame, download_mode_framing(), name,
                                    folder_.context()));
    }
    members_.push_back({std::move(name), std::move(packed)});
    return {};
  }

  /// A logical partition goes with the whole super, which download mode writes anew.
  Status add_super(const KitImages& images, const std::vector<RoomStep>& room, bool stock) {
    WEXLO_TRY(const PartitionFacts* const facts,
              input_.firmware.choose("super", input_.firmware_name));
    WEXLO_TRY(const SourcePtr super, facts->content->source(folder_.context()));
    if (stock) return add("super", super);
    std::vector<LogicalImage> logical;
    for (const KitImage& image : images)
      if (image.is_logical()) logical.push_back({image.logical, image.content});
    for (const RoomStep& step : room)
      if (step.act == RoomAct::Drop)
        logical.push_back({step.partition, open_memory({}, step.partition)});
    WEXLO_TRY(const RewrittenSuper rewritten, rewrite_super(super, logical));
    return add("super", rewritten.source, rewritten.given);
  }

  Status write(const std::string& path) {
    std::string name(base_name(path));
    name.resize(name.size() - kSumEnding.size());
    WEXLO_CHECK(folder_.stream(path, [&](const std::function<Status(View)>& out) {
      return write_summed_tar(members_, name, folder_.context(), out);
    }));
    return {};
  }

 private:
  KitFolder& folder_;
  const LayoutInput& input_;
  std::vector<TarMember> members_;
};

}  // namespace

Status write_tar(KitFolder& folder, const TarPlan& tar, const KitImages& images,
                 const std::vector<RoomStep>& room, const LayoutInput& input, bool stock) {
  Packager packager(folder, input);
  for (const TarPlan::Member& one : tar.members)
    WEXLO_CHECK(packager.add(one.partition, one.content));
  if (tar.super) WEXLO_CHECK(packager.add_super(images, room, stock));
  return packager.write(tar.name);
}

}  // namespace wexlo
