#pragma once
/// A shared library that is loaded when something of it is called first. What few commands use, and
/// what brings dozens of other libraries along, must not slow the start of every command.
///
/// A table of such functions is a struct with a row for each:
///   struct Zoo { LateLibrary zoo{"libzoo.so.1"}; WEXLO_LATE(zoo, zoo_feed); };
/// The library stays loaded until the program ends. Threads: constructing is not shared; what was
/// constructed may be used by all.

#include <string>

#include "base/error.hpp"

namespace wexlo {

class LateLibrary {
 public:
  /// @param soname  as the dynamic linker knows it ("libcurl.so.4"); its ABI is that of the header
  explicit LateLibrary(const char* soname);

  /// nullptr: it is not there; status() tells.
  template <class Function>
  Function take(const char* name) {
    return reinterpret_cast<Function>(find(name));
  }
  /// Errors: Unsupported (the library is not installed, or has not all functions that were taken).
  [[nodiscard]] Status status() const;

 private:
  void* find(const char* name);

  std::string soname_;
  void* handle_;
  std::string trouble_;
};

/// A member with the name and the type that the function has in its header.
// NOLINTNEXTLINE(bugprone-macro-parentheses): a name that is declared takes none
#define WEXLO_LATE(library, name) decltype(&::name) name = library.take<decltype(&::name)>(#name)

}  // namespace wexlo
