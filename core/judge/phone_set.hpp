#pragma once
/// The images of one phone, put together from files, folders and firmware.

#include <memory>

#include "firmware/formats.hpp"
#include "judge/subject.hpp"

namespace wexlo {

/// Bytes of a boot image or a vbmeta that are held and read in depth: far more than any has.
inline constexpr std::uint64_t kMaxDeep = 256u << 20;

/// What later paths hold takes the place of what earlier ones do, so that a patched image can be
/// laid over its stock firmware.
class PhoneSet {
 public:
  /// A file, a folder, or firmware in any container.
  /// Errors: those of opening.
  [[nodiscard]] Status add(const std::string& path, const Context& context);

  /// What another set holds, opened once for both: they may live as long as they like.
  void add(const PhoneSet& other);
  /// The partitions of a firmware that stays open as long as the set.
  void add(const Firmware& firmware);
  /// An image in memory, in the place of the partition of that name (with or without its slot).
  void add(const std::string& partition, Blob bytes);
  void add(const std::string& partition, const SourcePtr& source);
  /// One image file of any kind, under a partition's name; empty: the name it has by itself.
  /// Errors: Usage (it holds several), those of opening.
  [[nodiscard]] Status add_image(const std::string& path, const std::string& name,
                                 const Context& context);

  struct Opened;  ///< a member's bytes, once somebody has asked for them
  struct Member {
    std::string name;   ///< as its package calls it
    std::string where;  ///< path it came from
    std::uint64_t size = 0;
    ContentPtr content;
    bool single = false;  ///< a file of its own
    bool cheap = false;   ///< reading a part of it costs no more than that part
    std::shared_ptr<Opened> opened{};
  };
  [[nodiscard]] const std::vector<Member>& members() const { return members_; }
  [[nodiscard]] const Member* find(std::string_view name) const;  ///< nullptr: none
  [[nodiscard]] const Member* find_slotted(std::string_view name, std::string_view suffix) const;

  /// "_a", "_b" or nothing, from what the members are called and the slot asked for.
  /// @param other  the slot that is there besides, when nobody chose
  [[nodiscard]] std::string suffix(const std::string& slot, std::string& other) const;

  /// A member's bytes for random access; opened once, by whichever thread asks first.
  /// Errors: those of the content.
  [[nodiscard]] static Result<SourcePtr> source(const Member& member, const Context& context);

  [[nodiscard]] const std::vector<std::shared_ptr<const Firmware>>& firmwares() const {
    return firmwares_;
  }
  /// Holds a firmware, or a folder of images: not only single files.
  [[nodiscard]] bool is_whole() const { return whole_; }

 private:
  void put(Member member);
  Status add_raw(const std::string& path, Error why);

  bool whole_ = false;
  std::vector<std::shared_ptr<const Firmware>> firmwares_;
  std::vector<Member> members_;
};

/// The partition that a single image is for: by its verified-boot footer, else by its file's name
/// where that is a partition's, else by its kind.
[[nodiscard]] std::string partition_of_file(const Source& image, const std::string& path,
                                            const std::string& kind);

/// A member read as deep as it goes, where it is of the boot class; a part of it else.
[[nodiscard]] Result<Subject> read_subject(const PhoneSet& set, const PhoneSet::Member& member,
                                           const std::string& suffix, const Context& context);

[[nodiscard]] Result<Subjects> read_subjects(const PhoneSet& set, const std::string& suffix,
                                             const Context& context);

/// Walks the verified-boot chain of a set.
[[nodiscard]] Result<verified::Walk> walk_set(const PhoneSet& set, verified::WalkOptions options,
                                              const Context& context);

}  // namespace wexlo
