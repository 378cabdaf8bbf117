#pragma once
/// Commands of the bootloader's protocol, and what it answers. One command at a time: a message of
/// ASCII, then replies that begin with a word of four letters.

#include <functional>
#include <optional>

#include "base/source.hpp"
#include "phone/fastboot/link.hpp"

namespace wexlo {

/// Bytes of a command that older bootloaders take, and of one data phase: its size has 32 bits.
inline constexpr std::size_t kMaxCommand = 64;
inline constexpr std::uint64_t kMaxDownload = 0xFFFFFFFF;

struct PhoneReply {
  std::string text;                ///< of OKAY
  std::vector<std::string> lines;  ///< said on the way there
};

/// Called with each line that the phone says while it works, when it is whole; may be empty.
using PhoneSays = std::function<void(const std::string& line)>;

/// What one message of the phone is.
enum class ReplyWord { Okay, Fail, Info, Text, Data, None };
struct ReplyMessage {
  ReplyWord word = ReplyWord::None;
  std::string text;  ///< behind the word; of none: all of it
};
[[nodiscard]] ReplyMessage read_reply(View message);
/// The same the other way: what a phone sends.
[[nodiscard]] Bytes write_reply(ReplyWord word, std::string_view text);

/// What a message that is none of the protocol does to the reply that it stands in.
enum class Foreign {
  Fails,
  Ends,  ///< what was said before is kept
};
/// One command without a data phase, and the whole reply.
/// @param command  ASCII, at most kMaxCommand bytes
/// Errors: PhoneRefused (FAIL, with its text), LinkLost (no reply of this protocol), LimitExceeded
/// (more lines than any phone says), those of the link.
[[nodiscard]] Result<PhoneReply> ask_phone(Link& link, std::string_view command,
                                           Foreign foreign = Foreign::Fails);

/// The same for what changes the phone: ReplyLost in the place of LinkLost and Interrupted, as the
/// phone may have got the command and done it.
[[nodiscard]] Status order_phone(Link& link, std::string_view command, const PhoneSays& says = {});

/// A command that ends the link, as a restart does: an answer that does not come is none that is
/// missed. Errors: those of ask_phone; LinkLost and Interrupted only where it could not be sent.
[[nodiscard]] Status send_away(Link& link, std::string_view command, const PhoneSays& says = {});

/// nullopt: the phone does not know the variable. Errors: those of ask_phone but PhoneRefused.
[[nodiscard]] Result<std::optional<std::string>> phone_variable(Link& link,
                                                                const std::string& name);

/// Hands bytes to the phone, which keeps them for the next command. Nothing is written yet: an
/// error leaves the phone's partitions as they were.
/// @param file  up to kMaxDownload bytes; read in pieces  @param context  progress in its bytes
[[nodiscard]] Status download(Link& link, const Source& file, const Context& context,
                              const PhoneSays& says = {});

/// A command that the phone answers with bytes: `upload`, `fetch:…`.
/// @param take  is given them in order  @param most  bytes that are borne
/// @return how many came. Errors: those of ask_phone and of `take`, LimitExceeded.
[[nodiscard]] Result<std::uint64_t> fetch(Link& link, std::string_view command, std::uint64_t most,
                                          const std::function<Status(View)>& take,
                                          const Context& context);

/// How long the phone may be silent over a command, as a multiple of the link's usual time: what
/// writes flash may take minutes without a word.
[[nodiscard]] milliseconds time_for(std::string_view command, const Patience& patience);

/// All variables that the bootloader tells, as `name: value` lines: what sheet_from_properties
/// takes. A variable that it does not know is left out: missing is unknown, not "no".
/// Errors: those of ask_phone but PhoneRefused.
[[nodiscard]] Result<std::string> phone_variables(Link& link, const Context& context);

}  // namespace wexlo
