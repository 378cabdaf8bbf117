#include "job/prepare_making.hpp"

#include "base/digest.hpp"
#include "base/version.hpp"

namespace wexlo {
namespace {

/// Where its tar goes is known when the files are laid out.
KitPackage package_of(const PrepareInputs& in, const PrepareOptions& options) {
  if (is_wrapped(in, options)) return options.before->package;
  return {in.firmware->layers, {}, settings_parts(in.path), in.firmware->signs};
}

}  // namespace

KitSettings settings_of(const PrepareOptions& options) {
  return {.slots = options.slots,
          .wipe = options.wipe,
          .told = options.patch.told,
          .accepted = options.accept,
          .technician = options.technician};
}

bool is_wrapped(const PrepareInputs& in, const PrepareOptions& options) {
  return options.before && only_wrapped(in.firmware->layers, options.before->package.shells);
}

KitMaking making_of(const PrepareInputs& in, const PrepareOptions& options) {
  return {.version = options.before ? options.before->version : std::string(version()),
          .package = package_of(in, options),
          .rehearsed = options.rehearse,
          .whole = options.whole,
          .onto_foreign = options.patch.onto_foreign,
          .key_sha256 = options.signer ? sha256_hex(options.signer->public_key()) : "",
          .put_back = options.stock_of,
          .older = options.older,
          .given = {}};
}

}  // namespace wexlo
