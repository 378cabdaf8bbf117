#include "reply.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cerrno>
#include <ostream>

#include "advice.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

Json error_json(const Error& error) {
  Json out = {{"code", code_name(error.code)}, {"message", error.message}};
  out["file"] = error.file.empty() ? Json() : Json(error.file);
  out["offset"] = error.offset ? Json(*error.offset) : Json();
  out["expected"] = error.expected.empty() ? Json() : Json(error.expected);
  out["found"] = error.found.empty() ? Json() : Json(error.found);
  out["hint"] = error.hint.empty() ? Json() : Json(error.hint);
  return out;
}

Json document(const std::string& command, const Result<Reply>& reply, bool ok) {
  Json findings = Json::array();
  if (reply)
    for (const Finding& finding : reply->findings)
      findings.push_back({{"level", level_name(finding.level)},
                          {"code", finding.id.text()},
                          {"message", finding.message},
                          {"where", finding.where}});
  Json out = {{"command", command},
              {"ok", ok},
              {"result", reply ? reply->result : Json::object()},
              {"findings", findings}};
  if (!reply) out["error"] = error_json(reply.error());
  if (reply && reply->refusal) out["error"] = error_json(*reply->refusal);
  return out;
}

/// The same said of several partitions or files.
struct SameFindings {
  const Finding* first;
  std::vector<std::string> where, codes;
};

std::vector<SameFindings> gathered(const std::vector<Finding>& findings) {
  std::vector<SameFindings> out;
  for (const Finding& one : findings) {
    const auto same = std::ranges::find_if(out, [&](const SameFindings& other) {
      return other.first->level == one.level && other.first->id.code == one.id.code &&
             other.first->message == one.message;
    });
    SameFindings& row = same != out.end() ? *same : out.emplace_back(SameFindings{&one});
    const auto add = [](std::vector<std::string>& list, const std::string& text) {
      if (!text.empty() && std::ranges::find(list, text) == list.end()) list.push_back(text);
    };
    add(row.where, one.where);
    add(row.codes, one.id.text());
  }
  return out;
}

void print_findings(Session& session, const std::vector<Finding>& findings) {
  for (const SameFindings& one : gathered(findings)) {
    const Level level = one.first->level;
    if (session.globals.quiet && level == Level::Note) continue;
    const std::string label = level == Level::Note      ? session.paint.faint("note:")
                              : level == Level::Warning ? session.paint.warning("warning:")
                                                        : session.paint.bad("problem:");
    const std::string where =
        one.where.empty() ? "" : fmt::format("{}: ", fmt::join(one.where, ", "));
    tell(session, session.out,
         fmt::format("{} {} [{}]\n", label, printable(where + one.first->message),
                     printable(fmt::format("{}", fmt::join(one.codes, ", ")))));
  }
}

void print_error(Session& session, const Error& error) {
  tell(session, session.err,
       fmt::format("{} {}\n", session.paint.bad("wexlo:"), printable(describe(error))));
}

/// A reply that nobody can read is not done. false: it did not get out; the reason was told.
bool flushed(Session& session) {
  errno = 0;
  session.out.flush();
  if (session.out) return true;
  // What failed may have been an earlier flush: then the system's reason is gone.
  print_error(session, io_error(errno == 0 ? EIO : errno, "cannot write", "standard output"));
  return false;
}

}  // namespace

ExitCode exit_code(ErrorCode code) {
  switch (code) {
    case ErrorCode::Usage: return ExitUsage;
    case ErrorCode::BadMagic:
    case ErrorCode::Truncated:
    case ErrorCode::OutOfRange:
    case ErrorCode::BadValue:
    case ErrorCode::DigestMismatch:
    case ErrorCode::BadSignature:
    case ErrorCode::LimitExceeded:
    case ErrorCode::Mismatch:
    case ErrorCode::UnsafePath:
    case ErrorCode::Corrupt:
    case ErrorCode::NoPartitions: return ExitDamaged;
    case ErrorCode::Unsupported: return ExitUnsupported;
    case ErrorCode::NotFound:
    case ErrorCode::Exists:
    case ErrorCode::Permission:
    case ErrorCode::NoSpace:
    case ErrorCode::Io:
    case ErrorCode::NoMemory:
    case ErrorCode::Internal: return ExitIo;
    case ErrorCode::NoMatch:
    case ErrorCode::DoesNotFit:
    case ErrorCode::Unexplained:
    case ErrorCode::ForeignPatch:
    case ErrorCode::NoTarget:
    case ErrorCode::Ambiguous:
    case ErrorCode::NoWayBack:
    case ErrorCode::NeedsPerson:
    case ErrorCode::WouldRefuse: return ExitFinding;
    case ErrorCode::PhoneRefused:
    case ErrorCode::LinkLost:
    case ErrorCode::ReplyLost: return ExitPhone;
    case ErrorCode::Interrupted: return ExitInterrupted;
  }
  return ExitIo;
}

void tell(const Session& session, std::ostream& out, std::string_view text) {
  print(out, fold(text, session.paint.columns));
}

int finish(Session& session, const std::string& command, Result<Reply> reply) {
  if (!reply) reply = std::unexpected(advised(std::move(reply).error()));
  int code = ExitDone;
  if (!reply)
    code = exit_code(reply.error().code);
  else if (reply->refusal)
    code = exit_code(reply->refusal->code);
  else if (!reply->well)
    code = ExitFinding;
  // Work ends where its last part was read, which need not be where the line says 100 %.
  if (session.before_output) session.before_output();
  if (session.globals.json) {
    session.out << document(command, reply, code == ExitDone).dump() << "\n";
  } else if (reply) {
    if (reply->as_it_is)
      print(session.out, session.globals.quiet ? "" : reply->text);
    else
      tell(session, session.out, session.globals.quiet ? reply->reasons : reply->text);
    print_findings(session, reply->findings);
    if (reply->refusal) print_error(session, *reply->refusal);
    if (!session.globals.quiet) tell(session, session.out, reply->ending);
  } else {
    print_error(session, reply.error());
  }
  return flushed(session) ? code : ExitIo;
}

}  // namespace wexlo::cli
