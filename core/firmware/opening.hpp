#pragma once
/// What opening a container needs beside its bytes.

#include <map>
#include <mutex>

#include "firmware/firmware.hpp"

namespace wexlo {

/// The older build that an incremental package starts from: a folder of images, or any firmware.
class BaseImages {
 public:
  explicit BaseImages(FirmwarePtr firmware, std::string name)
      : firmware_(std::move(firmware)), name_(std::move(name)) {}
  /// One old image for random access; opened once. Errors: NotFound, Ambiguous, those of reading.
  [[nodiscard]] Result<SourcePtr> image(const std::string& partition, const Context& context) const;
  [[nodiscard]] const Firmware& firmware() const { return *firmware_; }
  [[nodiscard]] const std::string& name() const { return name_; }

 private:
  FirmwarePtr firmware_;
  std::string name_;
  mutable std::mutex mutex_;
  mutable std::map<std::string, SourcePtr> open_;
};

struct Opening {
  Context context{};
  std::shared_ptr<const BaseImages> base{};
  std::string
      key{};  ///< PEM: the public key, or the certificate, that signed the payload's metadata
  std::string base_build{};  ///< fingerprint that an incremental package wants to find
  unsigned depth = 0;        ///< shells around this one
  [[nodiscard]] Opening deeper() const {
    Opening out = *this;
    ++out.depth;
    return out;
  }
};

/// LimitExceeded, where packages and packings are nested deeper than any stock firmware's: a file
/// can be made to hold itself. @param name  what errors call the one that is too deep
[[nodiscard]] Status check_nesting(unsigned depth, const std::string& name);

}  // namespace wexlo
