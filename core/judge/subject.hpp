#pragma once
/// What is judged: the images of one phone, each read as deep as it goes.

#include <memory>

#include "judge/reading.hpp"
#include "judge/rules.hpp"
#include "verified/chain.hpp"

namespace wexlo {

struct Subject {
  std::string partition;              ///< without slot suffix
  std::string name;                   ///< as the set calls it
  SourcePtr source;                   ///< nullptr: its bytes cannot be had
  std::optional<LoadedImage> loaded;  ///< of boot-class images and vbmeta
  ImageReading reading;
  std::optional<Error> trouble;  ///< why it does not read
  bool untouched = false;        ///< byte for byte as its maker built it, as far as can be told
  std::vector<std::pair<std::string, std::string>> properties;  ///< of its own footer's struct

  [[nodiscard]] const Image* image() const {
    return loaded && loaded->image ? &*loaded->image : nullptr;
  }
  /// A property `com.android.build.PARTITION.WHAT`; empty: none.
  [[nodiscard]] std::string build_property(std::string_view what) const;
};

struct Subjects {
  std::vector<Subject> all;
  [[nodiscard]] const Subject* find(std::string_view partition) const;  ///< nullptr: not in it
};

/// The rules that one image can be judged by. @param stock  nullptr: there is none to compare with
void judge_form(const Subject& one, const Subject* stock, Report& report);
void judge_ramdisks(const Subject& one, const Subject* stock, Report& report);
void judge_against_stock(const Subject& one, const Subject& stock, Report& report);

struct SetFacts {
  const Subjects& set;
  const verified::Walk& walk;
  std::string slot;    ///< "a", "b", or empty
  bool whole = false;  ///< the set is a firmware's, or a phone's: what is not in it is missing
};
/// The rules that need several images.
void judge_set(const SetFacts& facts, Report& report);
void judge_misc(const Subject& misc, const std::string& slot, Report& report);

/// What keeps a kernel from taking a bootconfig: the first thing, a clause with its line; empty:
/// nothing. Limits: 32767 bytes, 8192 nodes, 16 levels, 255 letters a word.
[[nodiscard]] std::string bootconfig_trouble(std::string_view text);

/// The given images, and of the stock ones those that are not given.
[[nodiscard]] Subjects overlay(const Subjects& given, const Subjects& stock);

}  // namespace wexlo
