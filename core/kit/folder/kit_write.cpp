#include "kit/folder/kit_write.hpp"

#include <set>

#include "kit/folder/kit_package.hpp"
#include "kit/plan/plan_text.hpp"
#include "kit/plan/plan_toml.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

class KitWriter {
 public:
  KitWriter(const fs::path& folder, KitDraft& draft, const LayoutInput& input,
            const Context& context)
      : folder_(folder, context), draft_(draft), input_(input) {}

  Status run(const MoreFiles& more) {
    for (const char* name : {"flash", "stock"})
      WEXLO_CHECK(folder_.make(name));
    for (const KitEntry& entry : draft_.layout.entries)
      WEXLO_CHECK(write(entry));
    WEXLO_CHECK(write_tars());
    if (draft_.sheet)
      WEXLO_CHECK(folder_.put(std::string(kKitSheet), as_view(format_sheet(*draft_.sheet))));
    std::vector<KitRecipe> recipes;
    if (!draft_.recipes.empty()) {
      WEXLO_TRY(recipes, write_recipes(folder_, draft_.recipes));
    }
    fill_in(draft_, folder_.written());
    const std::string text = format_plan(draft_.plan);
    WEXLO_TRY(const KitFile plan, folder_.put(std::string(kPlanFile), as_view(text)));
    const std::string people = plan_for_people(draft_.plan);
    WEXLO_TRY(const KitFile plan_text, folder_.put("plan.txt", as_view(people)));
    WEXLO_CHECK(more(folder_, draft_));
    const KitManifest manifest =
        manifest_of(draft_, std::move(recipes), {plan.file, 0, plan.sha256}, others());
    const std::string json = format_manifest(manifest);
    WEXLO_CHECK(folder_.put(std::string(kKitManifest), as_view(json)));
    return folder_.list();
  }

 private:
  Status write(const KitEntry& entry) {
    // A folder for those of one sort.
    WEXLO_CHECK(folder_.make(fs::path(entry.name).parent_path().string()));
    if (!entry.bytes.empty()) {
      WEXLO_CHECK(folder_.put(entry.name, entry.bytes.view(), entry.sha256));
      return {};
    }
    if (!entry.cut) {
      WEXLO_CHECK(folder_.copy(entry.name, *entry.source));
      return {};
    }
    WEXLO_CHECK(folder_.stream(entry.name, [&](const std::function<Status(View)>& out) {
      return write_sparse({*entry.source}, *entry.cut, folder_.context(), out);
    }));
    return {};
  }

  Status write_tars() {
    const KitLayout& layout = draft_.layout;
    std::vector<RoomStep> room;
    for (const RoomPlan& one : draft_.super.rooms)
      room.insert(room.end(), one.steps.begin(), one.steps.end());
    if (input_.way == Way::Download) WEXLO_CHECK(folder_.make("package"));
    for (const TarPlan* tar : {&layout.first, &layout.images, &layout.stock})
      if (!tar->members.empty() || tar->super)
        WEXLO_CHECK(write_tar(folder_, *tar, draft_.images, room, input_, tar == &layout.stock));
    return {};
  }

  /// What the manifest lists besides images, recipes, key, plan and itself: in the order of names.
  [[nodiscard]] std::vector<KitFile> others() const {
    std::set<std::string> listed{std::string(kPlanFile), draft_.layout.key.file};
    for (const KitImage& image : draft_.images)
      for (const KitContent* content : {&image.flash, &image.stock_files}) {
        listed.insert(content->file);
        for (const KitFile& piece : content->pieces)
          listed.insert(piece.file);
      }
    std::vector<KitFile> out;
    for (const auto& [name, file] : folder_.written())
      if (!listed.contains(name) && !name.starts_with("recipes/")) out.push_back(file);
    return out;
  }

  KitFolder folder_;
  KitDraft& draft_;
  const LayoutInput& input_;
};

}  // namespace

Status write_kit(const fs::path& folder, KitDraft& draft, const LayoutInput& input,
                 const MoreFiles& more, const Context& context) {
  return KitWriter(folder, draft, input, context).run(more);
}

}  // namespace wexlo
