#pragma once
/// Images and packages that a person brings along besides the firmware (`--with`, `--install`), and
/// what their files show by themselves: is each what it is taken for?

#include "base/finding.hpp"
#include "firmware/formats.hpp"

namespace wexlo {

/// A file that is given once more, out of a kit: what it was called, and said of its build.
struct GivenBefore {
  std::string name;
  std::uint64_t size = 0;  ///< bytes of the image: pieces are of whole blocks
  BuildFacts build;
};

struct GivenFile {
  std::string partition;  ///< empty: a system package to be installed
  std::string file;       ///< path
  std::optional<GivenBefore> before{};
};

struct Given {
  std::string partition, file;
  std::shared_ptr<const Firmware> firmware;  ///< keeps the contents open
  const PartitionFacts* image = nullptr;     ///< nullptr: a package
  SourcePtr source;                          ///< of the image: unpacked, not sparse
  std::uint64_t size = 0;                    ///< bytes of the image, or of the package's file
  std::string kind;                          ///< "boot", "ext4", …
  BuildFacts build;
  std::string architecture;                ///< of its programs or kernel; empty: not known
  std::optional<bool> slotted;             ///< says whether it is for two slots
  std::optional<unsigned> header_version;  ///< of a boot or vendor_boot header
  bool payload = false;                    ///< a package that is installed to the other slot
};

/// Opens an image (packed, sparse or not) or a package. What looks wrong goes to `findings`, with
/// codes that --accept takes. Errors: Usage (a partition's name that is none, several images in
/// one file), those of opening and reading.
[[nodiscard]] Result<Given> open_given(const GivenFile& what, std::vector<Finding>& findings,
                                       const Context& context);

/// Signs of the wrong file that its name and its first bytes show.
void look_at_name(const std::string& file, const std::string& kind, const std::string& where,
                  std::vector<Finding>& findings);

/// The images of a firmware against each other: of one build, none left behind by another one, none
/// a placeholder, none changed since it was taken out. @param path  of the firmware
[[nodiscard]] Status look_at_siblings(const Firmware& firmware, const std::string& path,
                                      std::vector<Finding>& findings, const Context& context);

/// The build that an image itself names, in the properties of its verified-boot struct.
[[nodiscard]] BuildFacts build_in_image(const PartitionFacts& image);

}  // namespace wexlo
