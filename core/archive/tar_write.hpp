#pragma once
/// Writing a tar whose last line is the sum of all before it, over libarchive; and putting other
/// files into one, which leaves every other byte of it as it is.

#include <functional>
#include <map>
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

/// The same with a sum line behind it, which names `name` when that is not empty.
[[nodiscard]] Status write_summed_tar(const std::vector<TarMember>& members,
                                      const std::string& name, const Context& context,
                                      const std::function<Status(View)>& out);

/// `<32 hex digits>  <name>` and a line end.
[[nodiscard]] std::string sum_line(View md5, const std::string& name);

/// The tar with some members' contents replaced: their headers get the new size, all others stay. A
/// sum line is made anew. Nothing is copied: the sources have to stay.
/// @param replacements  by the member's path  @param sum_name  for the sum line; empty: as it was
/// Errors: NotFound (no such member), Unsupported (its size stands in an extended header), those of
/// reading.
[[nodiscard]] Result<SourcePtr> rewrite_tar(const SourcePtr& tar,
                                            const std::map<std::string, SourcePtr>& replacements,
                                            const std::string& sum_name, const Context& context);

}  // namespace wexlo
