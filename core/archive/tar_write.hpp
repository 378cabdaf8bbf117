#pragma once
/// Writing a tar whose last line is the sum of all before it, over libarchive.

#include <filesystem>
#include <functional>
#include <string>
#include <vector>

#include "base/pool.hpp"
#include "base/source.hpp"

namespace wexlo {

struct TarMember {
  std::string name;
  SourcePtr content;
};

/// Gives the archive's bytes to `out`, in order. Fixed times and owners: the same members give the
/// same bytes. Errors: those of the sources and of `out`, Interrupted.
[[nodiscard]] Status write_tar(const std::vector<TarMember>& members, const Context& context,
                               const std::function<Status(View)>& out);

/// A new tar at `file`, with a sum line that names `name` when that is not empty.
[[nodiscard]] Status write_tar_file(const std::filesystem::path& file,
                                    const std::vector<TarMember>& members, const std::string& name,
                                    const Context& context);

/// `<32 hex digits>  <name>` and a line end.
[[nodiscard]] std::string sum_line(View md5, const std::string& name);

}  // namespace wexlo
