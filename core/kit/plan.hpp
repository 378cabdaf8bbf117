#pragma once
/// The plan: the ordered steps of a flash as data, computed from facts alone: docs/formats/kit.md.

#include <optional>
#include <string>
#include <vector>

#include "base/bytes.hpp"

namespace wexlo {

enum class Slots {
  Current,  ///< the slot the phone starts from
  Both,     ///< only when the same build is known to be in both, or asked for
};

struct PlanImage {
  std::string partition;
  std::string flash_file, stock_file;  ///< inside the kit
  std::uint64_t size = 0;              ///< bytes of the image to write
  std::uint64_t stock_size = 0;
  std::string flash_sha256, stock_sha256;
};

struct PlanFacts {
  std::string device, build;
  std::vector<PlanImage> images;  ///< in the order they shall be written
  Slots slots = Slots::Current;
  bool wipe = false;
  std::string verification;          ///< "unlocked", "own-key": what the phone needs; see Plan
  std::string verification_why;      ///< sentences
  std::string key_file, key_sha256;  ///< the public key blob in the kit, with "own-key"
};

struct Step {
  std::string id;
  std::string act;      ///< "expect", "write", "wipe", "restart", "person"
  std::string about;    ///< what and why, one sentence
  std::string before;   ///< what must hold before it
  std::string success;  ///< how its success is known
  std::string undo;     ///< the step back; empty: nothing to undo
  bool data_loss = false;
  unsigned usual_seconds = 1;
  // by act
  std::string variable, value;            ///< expect: a variable and what it has to be
  std::optional<std::uint64_t> at_least;  ///< expect: instead of value, a smallest number (bytes)
  std::string partition, slot, file, sha256;  ///< write; slot "current" or "other"
  std::uint64_t size = 0;
};

struct Plan {
  std::string device, build;
  /// The state the phone has to be in to start what was written, and why.
  std::string verification, verification_why, key_file, key_sha256;
  std::vector<Step> steps;
  std::vector<Step> back;  ///< the way back to stock
};

/// Pure: the same facts give the same plan.
[[nodiscard]] Plan make_plan(const PlanFacts& facts);
/// plan.toml's text.
[[nodiscard]] std::string format_plan(const Plan& plan);

}  // namespace wexlo
