#pragma once
/// What speaks against a kit before it is made: the wrong phone, the wrong file, no room. Whatever
/// is found goes into what is prepared, as rows of the fit and as findings.

#include "firmware/stock_images.hpp"
#include "job/prepare.hpp"

namespace wexlo {

/// What the parts of a preparation have found out so far.
struct Workbench {
  const PrepareOptions& options;
  StockImages& stock;
  const std::vector<Given>& given;  ///< that no recipe acts on yet, and those that one does
  PhoneFacts phone;                 ///< as far as it is known
  const Context& context;

  [[nodiscard]] const Sheet* sheet() const { return options.sheet ? &*options.sheet : nullptr; }
};

/// Firmware, and what was brought along, against the sheet; without a sheet, what was brought along
/// against the firmware. @param images  what will be written; empty: not known yet
[[nodiscard]] Status judge_fit(const Workbench& bench, std::vector<FitImage> images, Prepared& out);

/// Which slots are written, and why. Precondition: out.shape is known.
void choose_slots(const Workbench& bench, Prepared& out);

/// Images that show Wexlo's own patch, or another hand's, are no stock: their twins in the kit
/// would be no way back.
[[nodiscard]] Status judge_origins(const Workbench& bench, Prepared& out);

/// What the firmware's own structs vouch for has to be what it holds.
[[nodiscard]] Status judge_vouched(const Workbench& bench, Prepared& out);

/// An older kit of the same build knows the digests of its stock images.
void compare_with_older_kit(const Workbench& bench, Prepared& out);

/// Large images that lie in super: is there room, and what has to go for it? Fills in out.super,
/// out.rooms and the logical names of out.given.
/// The older kit's phone and build, before anything is worked out.
void compare_with_older_phone(const Workbench& bench, Prepared& out);

/// Images that were given: for a partition that the phone has, and of this phone.
void judge_given(const Workbench& bench, Prepared& out);

[[nodiscard]] Status place_in_super(const Workbench& bench, Prepared& out);

/// A system that vbmeta does not vouch for is not mounted while verification is on.
/// Precondition: out.verification is known.
[[nodiscard]] Status judge_mounts(const Workbench& bench, Prepared& out);

/// Problems that a person has said yes to are warnings from here on; any other stops the kit.
void settle(const PrepareOptions& options, Prepared& out);

/// Codes of --accept that nothing answered to, once everything was looked at.
void tell_unused(const PrepareOptions& options, Prepared& out);

}  // namespace wexlo
