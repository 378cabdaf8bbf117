#include "base/late_library.hpp"

#include <dlfcn.h>

namespace wexlo {
namespace {

std::string last_trouble() {
  const char* text = ::dlerror();
  return text == nullptr ? std::string() : text;
}

}  // namespace

LateLibrary::LateLibrary(const char* soname)
    : soname_(soname), handle_(::dlopen(soname, RTLD_NOW | RTLD_LOCAL)) {
  if (handle_ == nullptr) trouble_ = last_trouble();
}

void* LateLibrary::find(const char* name) {
  if (handle_ == nullptr) return nullptr;
  void* const found = ::dlsym(handle_, name);
  if (found == nullptr && trouble_.empty()) trouble_ = last_trouble();
  return found;
}

Status LateLibrary::status() const {
  if (trouble_.empty()) return {};
  return fail({.code = ErrorCode::Unsupported,
               .message = "a library that this needs cannot be loaded: " + soname_,
               .found = trouble_,
               .hint = "Install the package that has it, then run it again."});
}

}  // namespace wexlo
