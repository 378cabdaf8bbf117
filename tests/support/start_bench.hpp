#pragma once
/// A small phone under verified boot on a simulated phone, to be written to and started.

#include "flash/bench_phone.hpp"
#include "phone/simulated/power_on.hpp"
#include "recipe/journal.hpp"
#include "seal/seal_image.hpp"
#include "support/patching.hpp"
#include "support/plan_phone.hpp"
#include "support/signed_set.hpp"
#include "support/small_phone.hpp"

namespace wexlo::test {

inline constexpr std::uint64_t kPartition = kMiB / 2;

struct StockPhone {
  SmallPhone parts;            ///< images before they get their footers
  std::uint64_t rollback = 3;  ///< of its vbmeta
  std::uint32_t flags = 0;     ///< of its vbmeta
  bool slotted = true, download = false;
  std::map<std::string, std::string> more;  ///< further images, without footers
  std::string fingerprint{};                ///< that every image's footer names; empty: none
  std::set<std::string> chained{};          ///< with a struct of their own, signed by boot's key

  /// With footers, and a vbmeta that covers all of them.
  [[nodiscard]] std::map<std::string, SourcePtr> images() const {
    std::map<std::string, SourcePtr> out;
    verified::Draft top = verified::new_draft();
    top.set_rollback_index(rollback);
    top.set_flags(flags);
    auto plain = parts.images();
    plain.insert(more.begin(), more.end());
    for (const auto& [name, bytes] : plain) {
      verified::Draft own = verified::new_draft();
      if (!fingerprint.empty())
        own.set_property("com.android.build." + name + ".fingerprint", fingerprint);
      FooterWish wish{.partition = name,
                      .partition_size = kPartition,
                      .salt = to_bytes(noise(32, 2)),
                      .draft = std::move(own)};
      if (chained.contains(name)) wish.signer = &signer(KeyOf::Boot);
      const SourcePtr source = open_memory(Blob(to_bytes(bytes)), name);
      MemorySink sink;
      const Footed made =
          value_of(write_footed(*source, bytes.size(), bytes.size(), wish, sink, {}));
      if (chained.contains(name))
        top.set_claim(verified::ChainDescriptor{name, 1, signer(KeyOf::Boot).public_key()});
      else
        top.set_claim(made.claim);
      out[name] = open_memory(sink.take(), name);
    }
    Bytes vbmeta = value_of(verified::write_struct(top, &signer(KeyOf::Root), DigestKind::Sha256));
    vbmeta.resize(align_up(vbmeta.size(), 4096));
    out["vbmeta"] = open_memory(Blob(std::move(vbmeta)), "vbmeta");
    return out;
  }
};

/// A phone with its stock images in it, taken in hand.
struct OnBench {
  explicit OnBench(const StockPhone& from) : stock_images(from.images()) {
    auto store = std::make_unique<MemoryStore>();
    for (const auto& [name, image] : stock_images)
      for (const char* slot : {"_a", "_b"}) {
        const std::string full = from.slotted ? name + slot : name;
        if (store->size_of(full)) continue;
        REQUIRE(store->add(full, image->size()));
        REQUIRE(store->put(full, {{0, image->size(), image, 0}}));
      }
    PhoneState state;
    state.product = "gnomon";
    state.slotted = from.slotted;
    state.mode = PhoneMode::Bootloader;
    state.download.there = from.download;
    phone = std::make_unique<SimulatedPhone>(state, std::move(store));
    stock = value_of(StockState::of(*phone));
    take_in_hand(*phone, *stock);
  }
  void write(const std::string& partition, const SourcePtr& image) {
    const Status done = phone->flash(partition, {"", image->size(), "", image});
    REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
  }
  PoweredOn start() { return value_of(power_on(*phone, stock)); }

  std::map<std::string, SourcePtr> stock_images;
  std::unique_ptr<SimulatedPhone> phone;
  StockStatePtr stock;
};

/// What a recipe leaves in a ramdisk.
inline void put_journal(CpioBytes& cpio) {
  Journal journal;
  journal.stock_sha256 = std::string(64, '0');
  cpio.folder("wexlo").file("wexlo/journal.toml", format_journal(journal));
}

/// The ramdisk of a recovery of its own, and its image.
inline CpioBytes recovery_entries() {
  CpioBytes out;
  out.folder("sbin").file("init", elf("arm64", "r"), 0100750);
  return out;
}
inline std::string recovery_image(CpioBytes entries) {
  BootBytes image{.version = 2, .kernel = arm64_kernel("5.10.157-android13-4-00001")};
  image.dtb = device_tree("Tarn 3", "korvale,gnomon");
  image.ramdisk = gzip(entries.done());
  return image.done();
}

/// The same phone with a program of one's own put in, by a journal.
inline StockPhone patched(StockPhone from = {}) {
  put_journal(from.parts.generic);
  return from;
}

}  // namespace wexlo::test
