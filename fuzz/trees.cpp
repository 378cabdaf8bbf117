/// Device trees and kernels.

#include "image/device_tree.hpp"
#include "image/kernel.hpp"
#include "support/boot.hpp"
#include "target.hpp"

namespace wexlo::fuzz {

void device_tree(View input) {
  const Blob place(to_bytes(input));
  const auto blobs = dt::blobs(place);
  for (std::size_t i = 0; i < blobs.size() && i < 4; ++i) {
    if (blobs[i].compression != "none") continue;
    const auto same = dt::replace(place, {{i, blobs[i].fdt}});
    if (same) must(equal(*same, input));
    // Edits of a valid tree leave a valid tree, and a second one finds nothing to do.
    const View tree = blobs[i].fdt.view();
    (void)dt::mount_nodes(tree);
    const auto set = dt::set_property(tree, "/", "tide", to_bytes("x"));
    if (set && set->changed) {
      must(dt::is_editable(set->fdt.view()));
      const auto twice = dt::set_property(set->fdt.view(), "/", "tide", to_bytes("x"));
      must(twice && twice->found && !twice->changed);
    }
    if (const auto gone = dt::remove_node(tree, "/chosen"); gone && gone->changed)
      must(dt::is_editable(gone->fdt.view()));
    // Another tree in its place is found there again, and the others stay.
    const std::string fresh = test::device_tree("Korvale Tarn 9", "korvale,other");
    const auto changed = dt::replace(place, {{i, test::blob(fresh)}});
    if (!changed) continue;
    const auto again = dt::blobs(Blob(Bytes(*changed)));
    if (again.size() != blobs.size()) continue;  // rows that are not sound on their own
    must(as_text(again[i].fdt.view()).find("Korvale Tarn 9") != std::string_view::npos);
  }
  if (const auto table = dt::parse_table(place)) must(equal(table->write(), input));
  if (const auto chain = dt::parse_chain(place)) must(equal(chain->write(), input));
}

std::vector<std::string> device_tree_seeds() {
  using namespace test;
  const std::string one = test::device_tree("Korvale Tarn 3", "korvale,a", "selinux=0");
  const std::string two = test::device_tree("Korvale Tarn 2", "korvale,b");
  const std::string qcdt = "QCDT" + le32(1) + le32(1) + le32(1) + le32(2) + le32(3) + le32(64) +
                           le32(static_cast<std::uint32_t>(one.size())) + field("", 32) + one;
  return {one,
          one + two,
          one + std::string(3, '\0') + two + "trailing",
          TableBytes{.blobs = {one, two}}.done(),
          TableBytes{.version = 1, .blobs = {one, gzip(two)}, .rows = {{0}, {1, 2, 3, 2}, {0, 5}}}
              .done(),
          qcdt};
}

void kernel(View input) {
  const Blob section(to_bytes(input));
  const auto read = kernel::read(section, {.bytes = 8u << 20, .ratio_from = 1u << 20});
  must(read.trees_at + read.trees.size() == section.size() || read.trees.empty());
}

std::vector<std::string> kernel_seeds() {
  using namespace test;
  const std::string raw = arm64_kernel("6.1.1-korvale", "CONFIG_A=y\n");
  const std::string tree = test::device_tree("Korvale", "korvale,x");
  return {raw,
          raw + tree,
          gzip(raw) + tree + tree,
          lz4_legacy(raw, true) + tree,
          chipset_header("KERNEL", gzip(raw)) + gzip(raw),
          xz(raw)};
}

}  // namespace wexlo::fuzz
