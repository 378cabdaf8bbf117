#include "ramdisk/decoded.hpp"

#include "base/error_kinds.hpp"

namespace wexlo {
namespace {

Status read_one(ReadRamdisk& one, const DecodeLimit& limit) {
  auto ramdisk = parse_ramdisk(one.part.bytes, limit);
  if (!ramdisk && is_of_this_run(ramdisk.error().code)) return fail(ramdisk.error());
  if (ramdisk)
    one.ramdisk = std::move(*ramdisk);
  else
    one.trouble = at_base(std::move(ramdisk).error(), one.part.offset + one.part.header.size());
  return {};
}

}  // namespace

Result<ReadRamdisks> DecodedImage::ramdisks(const Context& context) {
  const std::lock_guard lock(ramdisks_mutex_);
  if (ramdisks_) return ramdisks_;
  std::vector<ReadRamdisk> all;
  for (const boot::RamdiskPart& part : boot::ramdisk_parts(image_))
    all.push_back({part});
  const DecodeLimit limit = decode_limit(context);
  TaskGroup tasks(context);
  for (ReadRamdisk& one : all)
    tasks.submit(0, [&one, limit]() -> Status { return read_one(one, limit); });
  WEXLO_CHECK(tasks.wait());
  ramdisks_ = std::make_shared<const std::vector<ReadRamdisk>>(std::move(all));
  return ramdisks_;
}

Result<ReadKernel> DecodedImage::kernel(const Context& context) {
  const std::lock_guard lock(kernel_mutex_);
  if (kernel_) return kernel_;
  const Section* section = image_.section("kernel");
  if (section == nullptr || section->bytes.empty()) return ReadKernel();
  WEXLO_CHECK(check_stop(context));
  kernel_ =
      std::make_shared<const kernel::Kernel>(kernel::read(section->bytes, decode_limit(context)));
  return kernel_;
}

bool DecodedImage::kernel_may_skip_ramdisk(const Context& context) {
  const std::lock_guard lock(kernel_mutex_);
  if (!may_skip_)
    may_skip_ = kernel::may_skip_ramdisk(image_.section("kernel"), decode_limit(context));
  return *may_skip_;
}

void DecodedImage::let_go() {
  const std::scoped_lock lock(ramdisks_mutex_, kernel_mutex_);
  ramdisks_.reset();
  kernel_.reset();
}

}  // namespace wexlo
