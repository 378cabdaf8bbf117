#include "job/kit_package.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "archive/bundle.hpp"
#include "archive/tar_write.hpp"
#include "codec/packing.hpp"
#include "firmware/sparse.hpp"
#include "firmware/sparse_write.hpp"
#include "firmware/super_write.hpp"

namespace wexlo {
namespace {

/// The device's codename, as a word that can stand in a file's name.
std::string device_word(const BuildFacts& build) {
  std::string out = build.device.substr(0, build.device.find_first_of("|,"));
  for (char& c : out)
    if (!std::isalnum(static_cast<unsigned char>(c)) && c != '-' && c != '_') c = '-';
  return out.empty() ? "phone" : out;
}

class Packager {
 public:
  Packager(KitFolder& folder, Prepared& prepared, const PrepareOptions& options,
           const KitSources& sources, PlanFacts& facts)
      : folder_(folder), out_(prepared), options_(options), sources_(sources), facts_(facts) {}

  Status run() {
    WEXLO_CHECK(folder_.make("package"));
    std::vector<TarMember> mine, twins, first;
    for (const PlanImage& image : facts_.images) {
      if (image.logical) continue;
      auto& where = image.before_install ? first : mine;
      WEXLO_CHECK(add(image.partition, image.flash_file, where));
      WEXLO_CHECK(add(image.partition, image.stock_file, twins));
    }
    WEXLO_CHECK(add_super(mine, twins));
    WEXLO_CHECK(write(first, "first", facts_.first_tar));
    WEXLO_CHECK(write(mine, options_.stock ? "stock" : "patched", facts_.tar));
    if (options_.stock)
      facts_.stock_tar = facts_.tar;
    else
      WEXLO_CHECK(write(twins, "stock", facts_.stock_tar));
    return {};
  }

 private:
  /// How the phone's own package has that partition.
  [[nodiscard]] const PartitionFacts* stock_facts(const std::string& partition) const {
    const auto found = sources_.firmware().choose(partition, sources_.name());
    return found ? *found : nullptr;
  }

  Status add(const std::string& partition, const std::string& file, std::vector<TarMember>& out) {
    if (file.empty()) return {};
    WEXLO_TRY(SourcePtr content, open_file(folder_.path() / file));
    return add_content(partition, std::move(content), {}, out);
  }

  /// A logical partition goes with the whole super, which download mode writes anew.
  Status add_super(std::vector<TarMember>& mine, std::vector<TarMember>& twins) {
    std::vector<LogicalImage> images;
    for (const GivenPart& part : out_.given)
      if (!part.logical.empty()) images.push_back({part.logical, part.given.source});
    if (images.empty()) return {};
    for (const RoomStep& step : facts_.room)
      if (step.act == "drop") images.push_back({step.partition, open_memory({}, step.partition)});
    // It is done in the package: nothing is left for the phone's userspace mode.
    facts_.room.clear();
    WEXLO_TRY(const PartitionFacts* const stock,
              sources_.firmware().choose("super", sources_.name()));
    WEXLO_TRY(const SourcePtr super, stock->content->source(folder_.context()));
    WEXLO_TRY(const RewrittenSuper rewritten, rewrite_super(super, images));
    WEXLO_CHECK(add_content("super", rewritten.source, rewritten.given, mine));
    return add_content("super", super, {}, twins);
  }

  /// A member as the phone's own package has it: its name, sparse and packed where that is.
  Status add_content(const std::string& partition, SourcePtr content,
                     const std::vector<ByteRange>& given, std::vector<TarMember>& out) {
    const PartitionFacts* stock = stock_facts(partition);
    std::string name = partition + ".img";
    if (stock != nullptr && !stock->from.empty()) {
      const std::size_t mark = stock->from.find_last_of('!');
      name =
          base_name(std::string_view(stock->from).substr(mark == stock->from.npos ? 0 : mark + 1));
      if (facts_.tar_field.empty() && mark != stock->from.npos)
        facts_.tar_field = base_name(std::string_view(stock->from).substr(0, mark));
    }
    if (stock != nullptr && stock->detail.find("sparse") != std::string::npos) {
      WEXLO_TRY(content, as_sparse({*content, given}, name, folder_.context()));
    }
    if (name.ends_with(".lz4")) {
      WEXLO_TRY(content, pack_source(*content, Compression::Lz4Frame, download_mode_framing(), name,
                                     folder_.context()));
    }
    out.push_back({std::move(name), std::move(content)});
    return {};
  }

  Status write(const std::vector<TarMember>& members, const std::string& word, PlanFile& file) {
    if (members.empty()) return {};
    const std::string name = fmt::format("{}-{}.tar", device_word(out_.build), word);
    const std::string path = fmt::format("package/{}.md5", name);
    WEXLO_TRY(file, folder_.stream(path, [&](const std::function<Status(View)>& out) {
      return write_summed_tar(members, name, folder_.context(), out);
    }));
    out_.files.push_back(file);
    return {};
  }

  KitFolder& folder_;
  Prepared& out_;
  const PrepareOptions& options_;
  const KitSources& sources_;
  PlanFacts& facts_;
};

}  // namespace

Status write_packages(KitFolder& folder, Prepared& prepared, const PrepareOptions& options,
                      const KitSources& sources, PlanFacts& facts) {
  return Packager(folder, prepared, options, sources, facts).run();
}

}  // namespace wexlo
