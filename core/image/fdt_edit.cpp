/// Editing one flattened device tree through libfdt. What a loader was left as room to grow stays.

#include <fmt/format.h>
#include <libfdt.h>

#include "image/device_tree.hpp"

namespace wexlo::dt {
namespace {

constexpr int kDeepest = 64;

Error broken(int code) {
  return {.code = ErrorCode::Corrupt,
          .message = fmt::format("the device tree cannot be edited: {}", fdt_strerror(code)),
          .hint = "Take it out (wexlo unpack) and look at it with: dtc -I dtb -O dts."};
}

/// Bytes that the tree's blocks take, without the room behind them.
std::uint64_t used_size(const void* fdt) {
  const std::uint64_t strings = std::uint64_t{fdt_off_dt_strings(fdt)} + fdt_size_dt_strings(fdt);
  const std::uint64_t nodes = std::uint64_t{fdt_off_dt_struct(fdt)} + fdt_size_dt_struct(fdt);
  return std::max(strings, nodes);
}

/// A copy with room for an edit, and what has to be done to close it again.
class Open {
 public:
  static Result<Open> open(View bytes, std::size_t more) {
    if (!is_editable(bytes))
      return fail({.code = ErrorCode::Corrupt, .message = "the device tree is not whole"});
    const Bytes stock = to_bytes(bytes);
    Open out;
    out.slack_ = stock.size() - std::min<std::uint64_t>(stock.size(), used_size(stock.data()));
    constexpr std::size_t kMargin = 256;
    out.buffer_.resize(stock.size() + more + kMargin);
    const int code =
        fdt_open_into(stock.data(), out.buffer_.data(), static_cast<int>(out.buffer_.size()));
    if (code != 0) return fail(broken(code));
    return out;
  }

  void* tree() { return buffer_.data(); }

  Result<Blob> close() {
    if (const int code = fdt_pack(tree()); code != 0) return fail(broken(code));
    const std::size_t size = align_up(fdt_totalsize(tree()) + slack_, 4);
    Bytes out(size);
    if (const int code = fdt_open_into(tree(), out.data(), static_cast<int>(size)); code != 0)
      return fail(broken(code));
    return Blob(std::move(out));
  }

 private:
  Bytes buffer_;
  std::uint64_t slack_ = 0;
};

template <class Visit>
void walk(const void* fdt, int node, const std::string& path, int depth, Visit& visit) {
  visit(node, path);
  if (depth > kDeepest) return;
  int child = -1;
  fdt_for_each_subnode(child, fdt, node) {
    int size = 0;
    const char* name = fdt_get_name(fdt, child, &size);
    if (name != nullptr)
      walk(fdt, child, (path == "/" ? "" : path) + "/" + std::string(name), depth + 1, visit);
  }
}

std::string text_of(const void* fdt, int node, const char* name) {
  int size = 0;
  const auto* value = static_cast<const char*>(fdt_getprop(fdt, node, name, &size));
  if (value == nullptr || size <= 0) return {};
  return std::string(until_nul(as_view({value, static_cast<std::size_t>(size)})));
}

}  // namespace

bool is_editable(View bytes) {
  const auto size = fdt_size(bytes);
  constexpr std::uint32_t kVersion = 17;
  if (!size || *size != bytes.size()) return false;
  const Bytes copy = to_bytes(bytes);
  return fdt_version(copy.data()) >= kVersion && fdt_off_dt_struct(copy.data()) >= 40 &&
         fdt_check_full(copy.data(), copy.size()) == 0;
}

std::map<std::string, Bytes> flattened(View bytes) {
  std::map<std::string, Bytes> out;
  if (!is_editable(bytes)) return out;
  const Bytes copy = to_bytes(bytes);
  const void* fdt = copy.data();
  const auto visit = [&](int node, const std::string& path) {
    out[path];
    int property = -1;
    fdt_for_each_property_offset(property, fdt, node) {
      const char* name = nullptr;
      int size = 0;
      const void* value = fdt_getprop_by_offset(fdt, property, &name, &size);
      if (value != nullptr && name != nullptr)
        out[path + ":" + name] =
            to_bytes(View(static_cast<const std::byte*>(value), static_cast<std::size_t>(size)));
    }
  };
  walk(fdt, 0, "/", 0, visit);
  return out;
}

std::vector<MountNode> mount_nodes(View bytes) {
  std::vector<MountNode> out;
  if (!is_editable(bytes)) return out;
  const Bytes copy = to_bytes(bytes);
  const void* fdt = copy.data();
  const auto visit = [&](int node, const std::string& path) {
    if (fdt_node_check_compatible(fdt, node, "android,fstab") != 0) return;
    int child = -1;
    fdt_for_each_subnode(child, fdt, node) {
      const char* name = fdt_get_name(fdt, child, nullptr);
      if (name == nullptr || fdt_getprop(fdt, child, "fsmgr_flags", nullptr) == nullptr) continue;
      std::string mount = text_of(fdt, child, "mnt_point");
      if (mount.empty()) mount = "/" + std::string(name);
      out.push_back({path + "/" + name, std::move(mount), text_of(fdt, child, "fsmgr_flags")});
    }
  };
  walk(fdt, 0, "/", 0, visit);
  return out;
}

Result<TreeEdit> set_property(View bytes, const std::string& node, const std::string& property,
                              const std::optional<Bytes>& value) {
  const std::size_t more = property.size() + (value ? value->size() : 0);
  WEXLO_TRY(Open open, Open::open(bytes, more));
  const int at = fdt_path_offset(open.tree(), node.c_str());
  if (at < 0) return TreeEdit{};
  int size = 0;
  const auto* old =
      static_cast<const std::byte*>(fdt_getprop(open.tree(), at, property.c_str(), &size));
  if (!value) {
    if (old == nullptr) return TreeEdit{};
    const int code = fdt_delprop(open.tree(), at, property.c_str());
    if (code != 0) return fail(broken(code));
  } else {
    if (old != nullptr && equal(View(old, static_cast<std::size_t>(size)), *value))
      return TreeEdit{.found = true};
    const int code = fdt_setprop(open.tree(), at, property.c_str(), value->data(),
                                 static_cast<int>(value->size()));
    if (code != 0) return fail(broken(code));
  }
  WEXLO_TRY(Blob fdt, open.close());
  return TreeEdit{true, true, std::move(fdt)};
}

Result<TreeEdit> add_node(View bytes, const std::string& node) {
  WEXLO_TRY(Open open, Open::open(bytes, node.size() + 16));
  if (fdt_path_offset(open.tree(), node.c_str()) >= 0) return TreeEdit{.found = true};
  const auto cut = node.rfind('/');
  const std::string parent = cut == 0 ? "/" : node.substr(0, cut);
  const int above = fdt_path_offset(open.tree(), parent.c_str());
  if (above < 0) return TreeEdit{};
  const int code = fdt_add_subnode(open.tree(), above, node.c_str() + cut + 1);
  if (code < 0) return fail(broken(code));
  WEXLO_TRY(Blob fdt, open.close());
  return TreeEdit{true, true, std::move(fdt)};
}

Result<TreeEdit> remove_node(View bytes, const std::string& node) {
  WEXLO_TRY(Open open, Open::open(bytes, 0));
  const int at = fdt_path_offset(open.tree(), node.c_str());
  if (at <= 0) return TreeEdit{};
  const int code = fdt_del_node(open.tree(), at);
  if (code != 0) return fail(broken(code));
  WEXLO_TRY(Blob fdt, open.close());
  return TreeEdit{true, true, std::move(fdt)};
}

}  // namespace wexlo::dt
