/// Reading what was pasted, line by line.

#include <algorithm>
#include <array>
#include <filesystem>

#include "base/contains.hpp"
#include "kit/facts/pasted.hpp"
#include "observed/line_reader.hpp"
#include "observed/observed.hpp"
#include "observed/pasted_line.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

constexpr std::uint64_t kMaxText = 16u << 20;

/// What stands behind a log line's time; nullopt: the line is none of a log.
std::optional<std::string_view> log_text(std::string_view line) {
  if (line.starts_with('<')) {
    const std::size_t close = line.find('>');
    constexpr std::size_t kLongest = 4;
    if (close != line.npos && close <= kLongest) line.remove_prefix(close + 1);
  }
  if (line.starts_with('[')) {
    const std::size_t close = line.find(']');
    if (close == line.npos) return std::nullopt;
    const std::string_view time = trimmed(line.substr(1, close - 1));
    if (time.find('.') == time.npos || time.find_first_not_of("0123456789.") != time.npos)
      return std::nullopt;
    return trimmed(line.substr(close + 1));
  }
  // "11-30 07:30:00.123 …", as the system's own log has it.
  constexpr std::string_view kForm = "dd-dd dd:dd:dd.ddd";
  if (line.size() > kForm.size()) {
    const bool fits = std::ranges::equal(
        kForm, line.substr(0, kForm.size()),
        [](char want, char c) { return want == 'd' ? c >= '0' && c <= '9' : want == c; });
    if (fits) return trimmed(line.substr(kForm.size()));
  }
  for (const std::string_view begin : {"loader: ", "verified boot: ", "kernel: ", "system: ",
                                       "stops: ", "init: ", "avb_slot_verify.c:"})
    if (line.starts_with(begin)) return line;
  return std::nullopt;
}

class TextReader {
 public:
  TextReader(std::string name, Observed& out) : name_(std::move(name)), out_(out), reader_(out) {}

  void run(std::string_view pasted) {
    const std::string all = in_ascii(pasted);
    std::string_view text = all;
    while (!text.empty()) {
      const std::size_t end = std::min(text.find('\n'), text.size());
      ++number_;
      take(text.substr(0, end));
      text.remove_prefix(std::min(end + 1, text.size()));
    }
  }

 private:
  void take(std::string_view raw) {
    const std::string line = without_colors(raw);
    const std::vector<std::string_view> readings = readings_of(line);
    if (readings.front().empty()) return;
    SeenAt at{name_, number_, LineKind::Unknown};
    for (const std::string_view one : readings) {
      if (one.empty()) continue;
      at.kind = recognise(one, at);
      if (at.kind == LineKind::Unknown) continue;
      keep(one, at);
      return;
    }
    typed_.clear();
    out_.lines.push_back({std::string(readings.back()), at});
    out_.ignored.push_back(out_.lines.back());
  }

  void keep(std::string_view text, const SeenAt& at) {
    out_.lines.push_back({std::string(text), at});
    if (at.kind == LineKind::Typed) return;
    typed_.clear();
    if (out_.pieces.empty() || out_.pieces.back().kind != at.kind ||
        out_.pieces.back().file != name_)
      out_.pieces.push_back({at.kind, name_, number_, number_, 0});
    SeenPiece& piece = out_.pieces.back();
    piece.last = number_;
    ++piece.lines;
  }

  LineKind recognise(std::string_view text, const SeenAt& at) {
    if (const std::string_view command = typed_command(text); !command.empty()) {
      typed_ = command;
      return LineKind::Typed;
    }
    if (!typed_.empty())
      if (const LineKind kind = reader_.answer(typed_, text, at); kind != LineKind::Unknown)
        return kind;
    if (const auto log = log_text(text)) {
      reader_.log(*log, at);
      return LineKind::Log;
    }
    for (const auto take : {&LineReader::bracketed, &LineReader::kernel, &LineReader::user,
                            &LineReader::mount, &LineReader::configured, &LineReader::command_line,
                            &LineReader::alone, &LineReader::named})
      if (const LineKind kind = (reader_.*take)(text, at); kind != LineKind::Unknown) return kind;
    return reader_.sign(text, at) ? LineKind::Log : LineKind::Unknown;
  }

  std::string name_;
  Observed& out_;
  LineReader reader_;
  std::string typed_;  ///< a command whose answer comes next; empty: none
  std::size_t number_ = 0;
};

}  // namespace

void read_observed(std::string_view text, const std::string& name, Observed& out) {
  TextReader(name, out).run(text);
}

Result<Observed> read_observed_files(const std::vector<std::string>& files,
                                     const Context& context) {
  Observed out;
  for (const std::string& file : files) {
    WEXLO_CHECK(check_stop(context));
    WEXLO_TRY(const SourcePtr source, open_file(file));
    WEXLO_TRY(const Blob text, read_all(*source, kMaxText));
    read_observed(as_text(text.view()), std::filesystem::path(file).filename().string(), out);
  }
  return out;
}

}  // namespace wexlo
