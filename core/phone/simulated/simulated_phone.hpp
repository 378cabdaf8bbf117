#pragma once
/// A phone that is played on instead of a real one. It refuses what a phone refuses, and its
/// partitions hold what was written to them. What the acts of a plan do to a phone is meant here,
/// and nowhere else: rehearsals, the server and the tests all play on this one.

#include <functional>

#include "firmware/super_edit.hpp"
#include "phone/held_back.hpp"
#include "phone/simulated/faults.hpp"
#include "phone/simulated/phone_state.hpp"
#include "phone/simulated/store.hpp"

namespace wexlo {

class SimulatedPhone final : public Phone {
 public:
  SimulatedPhone(PhoneState start, StorePtr store, Faults faults = {}, Context context = {});

  PhoneState state;
  Faults faults;
  /// Called when the system is started, after the mode was set. @param once  an image that is
  /// started without being written; nullptr: what is on the phone
  std::function<void(const SourcePtr& once)> on_start;

  // The phone, as its host sees it.
  [[nodiscard]] PhoneMode mode() const override { return state.mode; }
  [[nodiscard]] Result<std::optional<std::string>> variable(const std::string& name) override;
  [[nodiscard]] Status enter(PhoneMode mode) override;
  [[nodiscard]] Status brought(PhoneMode) override { return {}; }
  [[nodiscard]] Status write(const std::string& partition, const PhoneFile& file) override;
  [[nodiscard]] Result<std::optional<bool>> holds(const std::string& partition,
                                                  const PhoneFile& file) override;
  [[nodiscard]] Status start(const PhoneFile& file) override;
  [[nodiscard]] Status erase(const std::string& partition) override;
  [[nodiscard]] Status choose_slot(const std::string& slot) override;
  [[nodiscard]] Status cancel_update() override;
  [[nodiscard]] Status create_logical(const std::string& partition, std::uint64_t size) override;
  [[nodiscard]] Status resize_logical(const std::string& partition, std::uint64_t size) override;
  [[nodiscard]] Status drop_logical(const std::string& partition) override;
  [[nodiscard]] Status restart() override;

  // The same for a server, which sends the phone's answers on.
  /// Called once the phone has taken an order, before it goes; empty: nobody has to be told.
  using Answer = std::function<Status()>;
  /// Goes into a mode, or starts the system. Errors besides: ReplyLost, those of `answer`; it is in
  /// that mode then.
  [[nodiscard]] Status reboot(PhoneMode mode, const Answer& answer);
  /// Starts an image that was sent before, once. Errors: as reboot.
  [[nodiscard]] Status start_once(const SourcePtr& image, const Answer& answer);
  /// Whether so many bytes may be sent.
  [[nodiscard]] Status may_download(std::uint64_t size);
  /// @param how  "cancel" or "merge"
  [[nodiscard]] Status end_update(const std::string& how);
  /// All that it tells: name and value.
  [[nodiscard]] std::vector<std::pair<std::string, std::string>> variables();
  /// Writes bytes that were sent before. @param partition  with or without its slot
  [[nodiscard]] Status flash(const std::string& partition, const PhoneFile& file);
  /// Puts other tables into super: those of an image without data. What partitions hold stays where
  /// it is.
  [[nodiscard]] Status update_super(const std::string& partition, const SourcePtr& tables);
  /// Whether it has the userspace mode: phones with logical partitions do.
  [[nodiscard]] bool has_userspace() { return store_->size_of("super").has_value(); }
  /// Reads back, where it does that in its mode. Errors besides: OutOfRange.
  [[nodiscard]] Result<SourcePtr> give_back(const std::string& partition);
  /// What the bootloader is told with `flashing lock` and `unlock`: either erases the user's data.
  [[nodiscard]] Status flashing_lock(bool lock);
  /// The same for its critical partitions; no data is lost.
  [[nodiscard]] Status lock_critical(bool lock);

  // What people do with it by hand, over no wire.
  void bring(PhoneMode mode);  ///< by its keys; into the system: it is started
  void set_locked(bool locked);
  void wipe_data();

  /// What a partition holds, whatever the mode; logical ones, too. Errors: NotFound, Io.
  [[nodiscard]] Result<SourcePtr> content(const std::string& partition);
  /// Puts bytes there, whoever does it and however the phone is locked: installers and programs
  /// for download mode do. Errors: NotFound, DoesNotFit, those of the store.
  [[nodiscard]] Status replace(const std::string& partition, const SourcePtr& image);
  /// The partition that is meant: with the current slot where the bare name has slots; empty: none.
  [[nodiscard]] std::string full_name(const std::string& partition);
  [[nodiscard]] std::optional<std::uint64_t> size_of(const std::string& partition);
  [[nodiscard]] bool is_logical(const std::string& partition);
  /// Names of all partitions, logical ones too.
  [[nodiscard]] std::vector<std::string> partitions();
  [[nodiscard]] PartitionStore& store() { return *store_; }
  [[nodiscard]] const Context& context() const { return context_; }
  [[nodiscard]] std::string other_slot() const { return state.slot == "a" ? "b" : "a"; }
  [[nodiscard]] SlotMarks marks_of(const std::string& slot) const;

 private:
  static constexpr const char* kSuper = "super";
  [[nodiscard]] Status begin(std::string_view command);
  [[nodiscard]] Status end(std::string_view command, const Answer& answer = {});
  [[nodiscard]] Status answers() const;
  [[nodiscard]] Status check_unlocked(std::string_view what) const;
  [[nodiscard]] Status check_logical(const std::string& partition, bool there);
  [[nodiscard]] Status transfer(std::uint64_t size);
  [[nodiscard]] Status put(const std::string& partition, const WrittenImage& image);
  [[nodiscard]] Status put_raw(const std::string& partition, const std::vector<Put>& puts);
  [[nodiscard]] Status spoil(const std::string& partition, const WrittenImage& image);
  [[nodiscard]] Status change_super(const std::function<Status(SuperEdit&)>& change);
  [[nodiscard]] SuperEdit* super();
  [[nodiscard]] std::optional<std::string> worked_out(const std::string& name);
  [[nodiscard]] std::optional<std::string> of_slot(const std::string& name) const;
  [[nodiscard]] std::optional<std::string> of_partition(const std::string& name);

  StorePtr store_;
  Context context_;
  std::optional<SuperEdit> super_;  ///< as it is on the disk; empty: not read since it changed
  bool no_super_ = false;
};

}  // namespace wexlo
