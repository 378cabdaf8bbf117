#include "phone/fastboot/command.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

namespace wexlo {
namespace {

constexpr std::size_t kMaxText = 4u << 20, kPiece = 1u << 20;

/// In the order of the enum.
constexpr std::array<std::string_view, 5> kWords{"OKAY", "FAIL", "INFO", "TEXT", "DATA"};

/// Gathers the messages of a reply up to its last one.
class ReplyReader {
 public:
  ReplyReader(Link& link, std::string_view command, const PhoneSays& says = {},
              Foreign foreign = Foreign::Fails)
      : link_(link), command_(command), says_(says), foreign_(foreign) {}

  /// @return the bytes of the data phase that follows; nullopt: the reply is whole
  Result<std::optional<std::uint64_t>> read(bool wants_data) {
    for (;;) {
      WEXLO_TRY(const Bytes message, link_.receive());
      const ReplyMessage one = read_reply(message);
      // TEXT has no line end of its own: the next TEXT goes on there.
      if (one.word != ReplyWord::Text) end_line();
      switch (one.word) {
        case ReplyWord::Okay: out.text = one.text; return std::nullopt;
        case ReplyWord::Fail:
          return fail({.code = ErrorCode::PhoneRefused,
                       .message = fmt::format("the phone refused {}", command_),
                       .found = one.text});
        case ReplyWord::Info:
        case ReplyWord::Text: WEXLO_CHECK(take_line(one)); break;
        case ReplyWord::Data:
          if (wants_data) return data_size(one.text);
          return fail(none("OKAY, FAIL or INFO", "DATA"));
        case ReplyWord::None:
          if (foreign_ == Foreign::Ends) return std::nullopt;
          return fail(none("OKAY, FAIL or INFO", one.text.substr(0, kWords[0].size())));
      }
    }
  }

  PhoneReply out;

 private:
  Status take_line(const ReplyMessage& one) {
    size_ += one.text.size() + kWords[0].size();
    if (size_ > kMaxText)
      return fail({.code = ErrorCode::LimitExceeded,
                   .message = fmt::format("the phone's reply to {} has no end", command_),
                   .expected = fmt::format("at most {} bytes", kMaxText)});
    std::string_view text = one.text;
    for (std::size_t end = text.find('\n'); end != text.npos; end = text.find('\n')) {
      add(text.substr(0, end));
      end_line();
      text.remove_prefix(end + 1);
    }
    add(text);
    if (one.word == ReplyWord::Info) end_line();
    return {};
  }

  void add(std::string_view text) {
    if (text.empty()) return;
    if (!open_) out.lines.emplace_back();
    out.lines.back() += text;
    open_ = true;
  }

  void end_line() {
    if (open_ && out.lines.back().ends_with('\r')) out.lines.back().pop_back();
    if (open_ && says_) says_(out.lines.back());
    open_ = false;
  }

  Result<std::optional<std::uint64_t>> data_size(const std::string& text) const {
    constexpr std::size_t kDigits = 8;
    const bool digits = text.size() == kDigits &&
                        text.find_first_not_of("0123456789abcdefABCDEF") == std::string::npos;
    if (!digits) return fail(none("DATA and eight hexadecimal digits", "DATA" + text));
    return std::stoull(text, nullptr, 16);
  }

  [[nodiscard]] Error none(std::string expected, std::string found) const {
    return {.code = ErrorCode::LinkLost,
            .message = fmt::format("the phone's reply to {} is none of the protocol", command_),
            .expected = std::move(expected),
            .found = std::move(found)};
  }

  Link& link_;
  std::string_view command_;
  PhoneSays says_;
  Foreign foreign_;
  bool open_ = false;  ///< the last line may go on
  std::size_t size_ = 0;
};

Status fits(std::string_view command) {
  if (command.size() > kMaxCommand)
    return fail({.code = ErrorCode::Usage,
                 .message = "the command is longer than bootloaders take",
                 .expected = fmt::format("at most {} bytes", kMaxCommand),
                 .found = std::string(command)});
  return {};
}

Status send_command(Link& link, std::string_view command) {
  WEXLO_CHECK(fits(command));
  return link.send(as_view(command));
}

}  // namespace

ReplyMessage read_reply(View message) {
  const std::string_view text = as_text(message);
  const std::string_view word = text.substr(0, kWords[0].size());
  const auto* const at = std::ranges::find(kWords, word);
  if (at == kWords.end()) return {ReplyWord::None, std::string(text)};
  return {static_cast<ReplyWord>(at - kWords.begin()), std::string(text.substr(word.size()))};
}

Bytes write_reply(ReplyWord word, std::string_view text) {
  Bytes out = to_bytes(kWords[static_cast<std::size_t>(word)]);
  append(out, text);
  return out;
}

Result<PhoneReply> ask_phone(Link& link, std::string_view command, Foreign foreign) {
  WEXLO_CHECK(send_command(link, command));
  ReplyReader reader(link, command, {}, foreign);
  WEXLO_CHECK(reader.read(false));
  return std::move(reader.out);
}

Status order_phone(Link& link, std::string_view command, const PhoneSays& says) {
  WEXLO_CHECK(fits(command));
  ReplyReader reader(link, command, says);
  Status told = link.send(as_view(command));
  if (told) {
    const auto read = reader.read(false);
    if (read) return {};
    told = fail(read.error());
  }
  Error why = told.error();
  // Whoever stops the program while the phone works does not stop the phone. What could not be sent
  // to its end may have reached it, too: a receipt is lost as easily as an answer.
  if (why.code == ErrorCode::LinkLost || why.code == ErrorCode::Interrupted) {
    why.code = ErrorCode::ReplyLost;
    why.message = fmt::format("the answer to {} was lost: {}", command, why.message);
    why.hint = "The phone may have done it, or not. Check the cable and the phone's screen.";
  }
  return fail(std::move(why));
}

Status send_away(Link& link, std::string_view command, const PhoneSays& says) {
  WEXLO_CHECK(send_command(link, command));
  ReplyReader reader(link, command, says);
  const auto read = reader.read(false);
  if (read || read.error().code == ErrorCode::LinkLost ||
      read.error().code == ErrorCode::Interrupted)
    return {};
  return fail(read.error());
}

Result<std::optional<std::string>> phone_variable(Link& link, const std::string& name) {
  auto reply = ask_phone(link, "getvar:" + name);
  if (!reply && reply.error().code == ErrorCode::PhoneRefused) return std::nullopt;
  if (!reply) return fail(std::move(reply).error());
  // A value is one line, whatever the phone sends; an empty one says nothing.
  std::string value = reply->text.substr(0, reply->text.find('\n'));
  const std::size_t begin = value.find_first_not_of(' ');
  if (begin == std::string::npos) return std::nullopt;
  return value.substr(begin, value.find_last_not_of(" \r") - begin + 1);
}

Status download(Link& link, const Source& file, const Context& context, const PhoneSays& says) {
  const std::uint64_t size = file.size();
  if (size > kMaxDownload)
    return fail({.code = ErrorCode::LimitExceeded,
                 .message = "the file is larger than one download can be",
                 .file = file.name(),
                 .expected = fmt::format("at most {} bytes", kMaxDownload),
                 .found = fmt::format("{} bytes", size)});
  const std::string command = fmt::format("download:{:08x}", size);
  WEXLO_CHECK(send_command(link, command));
  ReplyReader reader(link, command, says);
  WEXLO_TRY(const auto wanted, reader.read(true));
  if (!wanted || *wanted != size)
    return fail({.code = ErrorCode::LinkLost,
                 .message = "the phone asks for another number of bytes than it was offered",
                 .expected = fmt::format("{}", size),
                 .found = wanted ? fmt::format("{}", *wanted) : "none"});
  Bytes piece(static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, size)));
  for (std::uint64_t at = 0; at < size;) {
    WEXLO_CHECK(check_stop(context));
    const MutableView part =
        MutableView(piece).first(std::min<std::uint64_t>(piece.size(), size - at));
    WEXLO_CHECK(file.read_at(at, part));
    at += part.size();
    WEXLO_CHECK(link.send_data(part, at < size));
    if (context.progress) context.progress(at, size);
  }
  WEXLO_CHECK(reader.read(false));
  return {};
}

Result<std::uint64_t> fetch(Link& link, std::string_view command, std::uint64_t most,
                            const std::function<Status(View)>& take, const Context& context) {
  WEXLO_CHECK(send_command(link, command));
  ReplyReader reader(link, command);
  WEXLO_TRY(const auto size, reader.read(true));
  if (!size) return 0;
  if (*size > most)
    return fail({.code = ErrorCode::LimitExceeded,
                 .message = "the phone sends more bytes than it was asked for",
                 .expected = fmt::format("at most {}", most),
                 .found = fmt::format("{}", *size)});
  Bytes piece(static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, *size)));
  for (std::uint64_t at = 0; at < *size;) {
    WEXLO_CHECK(check_stop(context));
    const MutableView part =
        MutableView(piece).first(std::min<std::uint64_t>(piece.size(), *size - at));
    WEXLO_CHECK(link.receive_data(part));
    at += part.size();
    WEXLO_CHECK(take(part));
  }
  WEXLO_CHECK(reader.read(false));
  return *size;
}

milliseconds time_for(std::string_view command, const Patience& patience) {
  struct Row {
    std::string_view begins;
    double times;
  };
  // Writing a system image, erasing user data, or merging an update: minutes. Asking: seconds.
  constexpr std::array<Row, 7> kRows{{{"getvar:", 0.2},
                                      {"flash", 10},
                                      {"erase", 10},
                                      {"update-super", 10},
                                      {"snapshot-update", 20},
                                      {"reboot", 0.5},
                                      {"fetch", 2}}};
  for (const Row& row : kRows)
    if (command.starts_with(row.begins))
      return milliseconds(
          static_cast<long>(static_cast<double>(patience.reply.count()) * row.times));
  return patience.reply;
}

}  // namespace wexlo
