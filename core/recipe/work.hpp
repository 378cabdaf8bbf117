#pragma once
/// One image while it is edited: shared by the files that perform edits. Everything that changes
/// goes through here, so that what was meant is written down as it is done.

#include <functional>

#include "image/fragments.hpp"
#include "image/kernel.hpp"
#include "ramdisk/layout.hpp"
#include "recipe/patched.hpp"

namespace wexlo {

struct OpenRamdisk {
  boot::RamdiskPart part;
  Ramdisk ramdisk;
  Intent::Entries meant;
  bool replaced = false;  ///< put in whole by an edit
};

class Work {
 public:
  Work(const LoadedImage& stock_image, const PatchRole& patch_role, const Context& job)
      : stock(stock_image),
        role(patch_role),
        context(job),
        image(*stock_image.image),
        phone(patch_role.phone) {}

  const LoadedImage& stock;
  const PatchRole& role;
  const Context& context;
  Image image;
  PhoneFacts phone;  ///< the role's, and what the image tells besides
  std::vector<OpenRamdisk> ramdisks;
  Intent intent;
  Patched out;
  bool patched_before = false;          ///< the ramdisk carries a journal
  bool ramdisk_made = false;            ///< the stock image has none
  std::set<std::string> change_lists;   ///< places of the lists of changes that will be written
  std::optional<LoadedImage> original;  ///< of an image patched before, where it can be had
  std::map<std::string, std::string>
      kept_files;  ///< stock files by their place, and where they are kept

  // The current edit.
  const Edit* edit = nullptr;
  bool is_known = false;  ///< the journal has it: it was done on an earlier run
  EditReport* report = nullptr;
  OpenRamdisk* opened = nullptr;  ///< the ramdisk it acts on

  /// The kernel's processor; read from it when it is first asked for.
  [[nodiscard]] const std::string& kernel_architecture();

  [[nodiscard]] Ramdisk& ramdisk() { return opened->ramdisk; }
  /// The ramdisk that new files and the journal go to: of vendor_boot's fragments the first that
  /// every start loads. nullptr: the image has none.
  [[nodiscard]] OpenRamdisk* home();
  /// The ramdisk that an edit acts on; nullptr: there is none for it.
  [[nodiscard]] OpenRamdisk* ramdisk_for(const Edit& one);

  /// Whether the current edit is for a ramdisk, by the fragment that it names.
  [[nodiscard]] bool is_for(const OpenRamdisk& one) const;

  /// Writes down what a place holds now. @param value  its content; nullopt: it is gone
  void intend(const std::string& place, std::optional<View> content, const std::string& cause);
  /// Says what changed, once for people; texts get their diff. It is also what conflicts are found
  /// by: another edit that left another value in the same place.
  void tell(const std::string& where, std::optional<View> before, std::optional<View> after);
  /// The same for a text of which only parts were edited: edits of several parts go together, what
  /// puts another file in its place afterwards does not.
  void tell_text(const std::string& where, View before, View after);
  void tell(const std::string& where, std::string before, std::string after);
  void touch_text(const std::string& where) { texts_[where] = edit; }
  /// An edit wants a value in a place; another one that wants another is a conflict.
  void claim(const std::string& where, std::string value);
  /// What an edit is that found nothing to take away: where no journal can be, having done it
  /// before looks the same.
  [[nodiscard]] Outcome absent() const {
    return ramdisks.empty() ? Outcome::AlreadyDone : Outcome::NoMatch;
  }
  void detail(std::string line) { report->details.push_back(std::move(line)); }
  void note(Remark remark);
  void lower(FindingCode code, std::string_view about);

  // Entries of the ramdisk that the current edit acts on. Each writes down what it did.
  [[nodiscard]] Status add(newc::Entry entry, const std::string& cause);
  void rewrite(EntryAt at, const std::string& place, View content, const std::string& cause);
  /// Takes a place out, with all that is below; false: it was not there.
  bool erase(const std::string& place, const std::string& cause);
  /// Copies the stock entry as it is, owner and mode included, to the place that is asked for, or
  /// under the kept files' folder. Errors: BadValue (something else is in that place), those of
  /// packing.
  [[nodiscard]] Status keep_stock_file(const std::string& place, EntryAt at,
                                       const KeepStock& keep = {});

 private:
  void show(const std::string& where, std::optional<View> before, std::optional<View> after);
  void conflict(const std::string& where, const Edit& earlier);
  struct Claim {
    const Edit* edit;
    std::string value;
  };
  std::map<std::string, Claim> claims_;
  std::map<std::string, const Edit*> texts_;  ///< that were edited in part
};

/// Whether an image has a place for edits of a home.
[[nodiscard]] bool can_hold(const Image& image, Home home);
/// Why a condition does not hold, a clause; empty: all do. Errors: as failing_of_phone.
[[nodiscard]] Result<std::string> failing(const Conditions& conditions, Work& work,
                                          RamdiskLayout layout);

// By kind; each file does a few.
[[nodiscard]] Result<Outcome> apply(Work& work, const PutEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const FolderEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const PutTreeEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const RemoveEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const MoveEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const LinkEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const ChmodEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const LineAddEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const LineReplaceEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const LineRemoveEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const PropertyEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const FstabDropEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const FstabSetEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const FstabAddEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const ChangeListEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const CmdlineEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const BootconfigEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const HeaderEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const KernelBytesEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const KernelProgramEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const TreePropertyEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const TreeNodeEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const PartEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const FragmentEdit& edit);
[[nodiscard]] Result<Outcome> apply(Work& work, const VbmetaFlagsEdit& edit);

/// A device tree of an image: its section, and its number there.
using TreeAt = std::pair<std::string, std::size_t>;
using ChangeTree = std::function<Result<dt::TreeEdit>(const TreeAt& at, const Blob& tree)>;
/// Gives each tree to `change`; one that finds its place counts.
/// @param wanted   what model or compatible holds; empty: all trees
/// @param removes  not to find it is to have it done
[[nodiscard]] Result<Outcome> each_tree(Work& work, const std::string& wanted, bool removes,
                                        const ChangeTree& change);

// What the current edit changes, written down as it is done.
/// @param value  nullopt: the property is removed. Errors: those of dt::set_property.
[[nodiscard]] Result<dt::TreeEdit> set_tree_property(Work& work, const TreeAt& at, const Blob& tree,
                                                     const std::string& node,
                                                     const std::string& property,
                                                     const std::optional<Bytes>& value);
/// Another command line; its words are told by the caller. Errors: DoesNotFit.
[[nodiscard]] Status put_cmdline(Work& work, const std::string& before, const std::string& after);
/// The edit's bytes, at these places of the kernel as it runs. Errors: those of kernel::with_body.
[[nodiscard]] Result<Outcome> put_in_kernel(Work& work, const kernel::Body& body,
                                            const std::vector<std::size_t>& places,
                                            const KernelBytesEdit& edit);

/// Gives an image of header version 0 to 2 that has no ramdisk one with nothing in it, packed as
/// its kernel reads it. False: the image has one, or its phone has it elsewhere.
/// Errors: Interrupted, those of packing.
[[nodiscard]] Result<bool> make_ramdisk(Work& work);
/// One that nothing was put into is none.
[[nodiscard]] Status drop_empty_ramdisk(Work& work);

/// Changes the word that has a kernel pass the image's ramdisk over, wherever it stands as a whole
/// word: see keep_ramdisk.cpp. NoMatch: it stands nowhere.
/// @param needed  the ramdisk is known to be passed over: a kernel that cannot be changed is an
/// error then. Errors: those of kernel::open_body and with_body.
[[nodiscard]] Result<Outcome> keep_ramdisk(Work& work, bool needed);

/// Permission bits of a new file whose recipe gives none: 0750 of programs and scripts, else 0644.
[[nodiscard]] std::uint32_t usual_mode(View content);

/// A file's content as it is put in. Errors: those of packing, Interrupted.
[[nodiscard]] Result<Blob> packed_file(const Blob& content, FilePack pack, const Context& context);

/// The device trees of an image, wherever they are: one place a section.
struct TreePlace {
  std::string section;
  std::size_t at = 0;  ///< where they begin in the section (behind a kernel)
  Blob bytes;
};
[[nodiscard]] std::vector<TreePlace> tree_places(const Image& image, const DecodeLimit& limit);
/// Puts changed trees of one place back. @param fresh  by number in dt::blobs
[[nodiscard]] Status put_trees(Work& work, const TreePlace& place,
                               const std::map<std::size_t, Blob>& fresh);

/// Replaces bytes of the running kernel; shared by the edit of that kind and by what a layout asks
/// for. Errors: BadValue (another count).
[[nodiscard]] Result<Outcome> replace_kernel_bytes(Work& work, const KernelBytesEdit& edit);

// Protections: what an edit lowers, told where it is done.
void judge_flags(Work& work, const std::vector<std::string>& dropped);
void judge_property(Work& work, std::string_view name, std::string_view value);
void judge_word(Work& work, std::string_view name, std::string_view value);
void judge_vbmeta(Work& work, std::uint64_t flags);

}  // namespace wexlo
