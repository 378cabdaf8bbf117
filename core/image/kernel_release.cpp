#include "image/kernel_release.hpp"

#include <algorithm>

namespace wexlo::kernel {
namespace {

constexpr std::string_view kSystem = "-android";
constexpr std::size_t kMostRelease = 128;

bool is_digit(char c) {
  return c >= '0' && c <= '9';
}

std::size_t digits(std::string_view text) {
  return static_cast<std::size_t>(std::ranges::find_if_not(text, is_digit) - text.begin());
}

/// The parts of a generic kernel's release; empty ones: it is none.
struct Generic {
  std::string_view version;    ///< "5.15"
  std::string_view system;     ///< "13"
  std::string_view interface;  ///< "8"; may be empty
};

/// "5.15" of "5.15.94"; empty: it does not begin with a version.
std::string_view version_of(std::string_view release) {
  const std::size_t major = digits(release);
  if (major == 0 || major >= release.size() || release[major] != '.') return {};
  const std::size_t minor = digits(release.substr(major + 1));
  return minor == 0 ? std::string_view() : release.substr(0, major + 1 + minor);
}

Generic parts_of(std::string_view release) {
  const std::string_view version = version_of(release);
  const std::size_t at = release.find(kSystem);
  if (version.empty() || at == release.npos) return {};
  const std::string_view rest = release.substr(at + kSystem.size());
  const std::string_view system = rest.substr(0, digits(rest));
  const std::string_view behind = rest.substr(system.size());
  if (system.empty() || (!behind.empty() && behind.front() != '-')) return {};
  const std::string_view next = behind.empty() ? behind : behind.substr(1);
  return {version, system, next.substr(0, digits(next))};
}

}  // namespace

std::string generation_of(std::string_view release) {
  const Generic parts = parts_of(release);
  if (parts.system.empty()) return {};
  return "android" + std::string(parts.system) + "-" + std::string(parts.version);
}

bool is_generation(std::string_view word) {
  // It is a release with its parts the other way round.
  const std::size_t dash = word.find('-');
  return dash != word.npos && generation_of(std::string(word.substr(dash + 1)) + "-" +
                                            std::string(word.substr(0, dash))) == word;
}

std::string series_of(std::string_view release) {
  const Generic parts = parts_of(release);
  std::string out(version_of(release));
  if (!parts.interface.empty())
    out.append(kSystem).append(parts.system).append("-").append(parts.interface);
  return out;
}

std::string module_interface(std::string_view release) {
  return parts_of(release).interface.empty() ? std::string(release) : series_of(release);
}

std::string module_release(View module) {
  constexpr std::string_view kKey = "vermagic=";
  const std::string_view text = as_text(module);
  const std::size_t at = text.find(kKey);
  if (at == text.npos) return {};
  const std::string_view behind = text.substr(at + kKey.size(), kMostRelease);
  return std::string(behind.substr(0, behind.find_first_of(std::string_view(" \0", 2))));
}

bool is_release(std::string_view release, std::string_view wanted) {
  if (wanted.ends_with('*')) return release.starts_with(wanted.substr(0, wanted.size() - 1));
  if (wanted.empty() || !release.starts_with(wanted)) return false;
  if (release.size() == wanted.size()) return true;
  const char next = release[wanted.size()];
  return next == '.' || next == '-' || next == '+' || next == '_';
}

}  // namespace wexlo::kernel
