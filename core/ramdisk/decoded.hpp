#pragma once
/// What the parts of an image decode to: ramdisks and kernel. Each is decoded once, when somebody
/// asks for it first, and held until all who asked have let go of it and of this.

#include <memory>
#include <mutex>
#include <optional>

#include "base/pool.hpp"
#include "image/fragments.hpp"
#include "image/kernel.hpp"
#include "ramdisk/ramdisk.hpp"

namespace wexlo {

struct ReadRamdisk {
  boot::RamdiskPart part;
  std::optional<Ramdisk> ramdisk{};  ///< empty: it does not read
  std::optional<Error> trouble{};    ///< why; offsets in the image
};
using ReadRamdisks = std::shared_ptr<const std::vector<ReadRamdisk>>;
using ReadKernel = std::shared_ptr<const kernel::Kernel>;

/// Threads: all of it may be called from several. Who asks while another one decodes waits for it.
class DecodedImage {
 public:
  explicit DecodedImage(Image image) : image_(std::move(image)) {}

  /// In the table's order, decoded side by side; what does not read is told in its place.
  /// Errors: Interrupted and the like of this run.
  [[nodiscard]] Result<ReadRamdisks> ramdisks(const Context& context);
  /// nullptr: the image has no kernel.
  [[nodiscard]] Result<ReadKernel> kernel(const Context& context);
  /// See kernel::may_skip_ramdisk.
  [[nodiscard]] bool kernel_may_skip_ramdisk(const Context& context);
  /// For one who knows that nobody asks again, to give the memory back.
  void let_go();

 private:
  Image image_;
  std::mutex ramdisks_mutex_, kernel_mutex_;  ///< of what follows each; held while it is decoded
  ReadRamdisks ramdisks_;
  ReadKernel kernel_;
  std::optional<bool> may_skip_;
};

}  // namespace wexlo
