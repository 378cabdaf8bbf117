#include "kit/folder/record_part.hpp"

#include <fmt/format.h>

#include "base/digest.hpp"

namespace wexlo {
namespace {

constexpr std::string_view kBegin = "<!-- the record: ", kEnd = "<!-- end of the record -->\n",
                           kClose = " -->\n", kBehind = "</main>\n";
constexpr std::size_t kDigest = 64;

}  // namespace

SplitReport split_report(std::string_view html) {
  SplitReport out{.report = std::string(html), .has_page = false, .intact = true, .last = {}};
  const std::size_t begin = html.find(kBegin);
  const std::size_t end = begin == html.npos ? begin : html.find(kEnd, begin);
  if (end == html.npos) return out;
  constexpr std::size_t kMark = kBegin.size() + kDigest + 1 + kDigest + kClose.size();
  const std::string_view mark = html.substr(begin, kMark);
  if (begin + kMark > end || !mark.ends_with(kClose)) return out;
  const std::string_view page = html.substr(begin + kMark, end - begin - kMark);
  out.has_page = true;
  out.intact = sha256_hex(as_view(page)) == mark.substr(kBegin.size(), kDigest);
  out.last = mark.substr(kBegin.size() + kDigest + 1, kDigest);
  out.report = std::string(html.substr(0, begin)) + std::string(html.substr(end + kEnd.size()));
  return out;
}

Result<SourcePtr> report_as_made(const Source& report, SplitReport& split) {
  constexpr std::uint64_t kMost = 64u << 20;
  WEXLO_TRY(const Blob text, read_all(report, kMost));
  split = split_report(as_text(text.view()));
  return open_memory(Blob(to_bytes(split.report)), report.name());
}

std::string with_page(std::string_view html, std::string_view page, const std::string& last) {
  const std::string report = split_report(html).report;
  std::size_t at = report.rfind(kBehind);
  if (at == std::string::npos) at = report.size();
  return fmt::format("{}{}{} {}{}{}{}{}", report.substr(0, at), kBegin, sha256_hex(as_view(page)),
                     last, kClose, page, kEnd, report.substr(at));
}

}  // namespace wexlo
