#include "firmware/package_devices.hpp"

#include "firmware/file_names.hpp"
#include "firmware/formats.hpp"

namespace wexlo {

DeviceFinder device_finder(const Bundle& bundle, const Opening& opening) {
  return [&](const std::string& wanted) -> Result<SourcePtr> {
    for (const Item& item : bundle.items) {
      const FileName file = read_file_name(item.path);
      if (!file.image || file.partition != wanted) continue;
      WEXLO_TRY(SourcePtr source, item.open(opening.context));
      WEXLO_TRY(Unwrapped inner, unwrap(std::move(source), file.packed, opening.deeper()));
      return inner.source;
    }
    return fail({.code = ErrorCode::NotFound, .message = "no such file", .file = wanted});
  };
}

}  // namespace wexlo
