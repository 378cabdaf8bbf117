/// The wire to a phone's bootloader, from its host's end.

#include "kit/facts/sheet.hpp"
#include "phone/fastboot/command.hpp"
#include "support/bytes.hpp"
#include "support/check.hpp"
#include "support/wire_phone.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

/// For a phone that answers: long enough for a machine that is busy with other tests.
constexpr Patience kPatient{std::chrono::seconds(60), std::chrono::seconds(60),
                            std::chrono::milliseconds(20)};
/// For one that falls silent, where the wait is what is tested.
constexpr Patience kShort{std::chrono::milliseconds(2000), std::chrono::milliseconds(300),
                          std::chrono::milliseconds(20)};

const std::map<std::string, std::string> kVariables{{"product", "gnomon"},
                                                    {"version-bootloader", "KV: 3.1"},
                                                    {"unlocked", "yes"},
                                                    {"slot-count", "2"},
                                                    {"current-slot", "_b"},
                                                    {"max-download-size", "0x10000000"},
                                                    {"partition-size:boot_a", " 0x4000000"},
                                                    {"partition-size:boot_b", "4000000"},
                                                    {"partition-size:super", "0x100000000"},
                                                    {"is-logical:system_b", "yes"},
                                                    {"partition-size:system_b", "0x80000000"},
                                                    {"battery-voltage", "4012"}};

Result<Sheet> sheet_of(const WirePhone& phone, const Patience& patience = kPatient,
                       const Context& context = {}) {
  WEXLO_TRY(const LinkPtr link, connect_phone(phone.address(), context, patience));
  WEXLO_TRY(const std::string text, phone_variables(*link, context));
  return sheet_from_properties(text, "the bootloader");
}

ErrorCode refused(Wire wire, WireHabits habits, const Patience& patience = kPatient) {
  const WirePhone phone(wire, std::move(habits));
  const auto got = sheet_of(phone, patience);
  REQUIRE_FALSE(got);
  CHECK_FALSE(got.error().message.empty());
  return got.error().code;
}

}  // namespace

TEST_CASE("phone: an address names the wire, the host and the port") {
  const auto address = [](const char* text) { return value_of(parse_address(text)); };
  CHECK(address("fastboot+tcp://bench").host == "bench");
  CHECK(address("fastboot+tcp://bench").port == 5554);
  CHECK(address("fastboot+udp://10.0.0.7:99").wire == Wire::Udp);
  CHECK(address("fastboot+udp://10.0.0.7:99").port == 99);
  CHECK(address("fastboot+tcp://[fe80::1]:7").host == "fe80::1");
  CHECK(address("fastboot+tcp://[::1]").port == 5554);
  CHECK(address_text(address("fastboot+tcp://[::1]:7")) == "fastboot+tcp://[::1]:7");
  CHECK(address("fastboot+usb://KV123").serial == "KV123");
  CHECK(address("fastboot+usb://").serial.empty());
  for (const char* bad :
       {"", "bench:5554", "tcp:bench", "fastboot+tcp://", "fastboot+tcp://:5554",
        "fastboot+tcp://bench:", "fastboot+tcp://bench:0", "fastboot+tcp://bench:65536",
        "fastboot+tcp://bench:x", "fastboot+tcp://[::1", "fastboot+tcp://::1", "fastboot+tcp://a/b",
        "http://bench:80"}) {
    CAPTURE(bad);
    const auto got = parse_address(bad);
    REQUIRE_FALSE(got);
    CHECK(got.error().code == ErrorCode::Usage);
  }
}

TEST_CASE("phone: its variables make a sheet, over either wire, told at once or one by one") {
  std::string first;
  for (const Wire wire : {Wire::Tcp, Wire::Udp})
    for (const bool at_once : {true, false}) {
      CAPTURE(static_cast<int>(wire));
      CAPTURE(at_once);
      const WirePhone phone(wire, {.variables = kVariables, .tells_all = at_once});
      const Sheet sheet = value_of(sheet_of(phone));
      CHECK(sheet.text("phone.product") == "gnomon");
      CHECK(sheet.text("build.bootloader") == "KV: 3.1");
      CHECK(sheet.text("state.lock") == "unlocked");
      CHECK(sheet.text("state.current_slot") == "b");
      CHECK(sheet.number("state.download_limit") == 0x10000000);
      CHECK(sheet.number("state.battery_millivolt") == 4012);
      CHECK(sheet.size_of("boot_a") == 0x4000000);
      CHECK(sheet.size_of("boot_b") == 0x4000000);
      CHECK(sheet.number("super.size") == 0x100000000);
      // Which of the others are logical is told by listing them alone.
      CHECK(sheet.logical.size() == (at_once ? 1 : 0));
      // What it does not know stays unknown.
      CHECK(sheet.text("state.anti_rollback").empty());
    }
}

TEST_CASE("phone: packets that are lost are sent again, numbers wrap, replies come in pieces") {
  for (const unsigned every : {3u, 4u, 5u}) {
    CAPTURE(every);
    auto variables = kVariables;
    variables["version-baseband"] = std::string(1500, 'x');
    const WirePhone phone(
        Wire::Udp,
        {.variables = variables, .packet = 512, .first_number = 0xfff0, .loses_every = every});
    const Sheet sheet = value_of(sheet_of(phone));
    CHECK(sheet.text("build.baseband").size() == 1500);
    CHECK(sheet.size_of("boot_b") == 0x4000000);
  }
}

TEST_CASE("phone: a bootloader without slots is asked by bare names") {
  const WirePhone phone(Wire::Tcp, {.variables = {{"product", "plumbline"},
                                                  {"partition-size:boot", "0x2000000"},
                                                  {"partition-size:recovery", "0x3000000"}},
                                    .tells_all = false});
  const Sheet sheet = value_of(sheet_of(phone));
  CHECK(sheet.size_of("boot") == 0x2000000);
  CHECK(sheet.size_of("recovery") == 0x3000000);
}

TEST_CASE("phone: a server with a word of its own for all variables is asked one by one") {
  for (const Wire wire : {Wire::Tcp, Wire::Udp}) {
    const WirePhone phone(wire, {.variables = kVariables, .word_for_all = "MORE"});
    const Sheet sheet = value_of(sheet_of(phone));
    CHECK(sheet.text("phone.product") == "gnomon");
    CHECK(sheet.size_of("boot_b") == 0x4000000);
  }
}

TEST_CASE("phone: one that works and hears nothing is not drowned in packets") {
  const WirePhone phone(Wire::Udp, {.variables = kVariables, .thinks = std::chrono::seconds(1)});
  const LinkPtr link = value_of(connect_phone(phone.address(), {}, kPatient));
  CHECK(value_of(phone_variable(*link, "product")) == "gnomon");
  // A packet each 20 ms would be fifty.
  CHECK(phone.packets() >= 5);
  CHECK(phone.packets() < 20);
}

TEST_CASE("phone: a server that still waits for its last host is called again") {
  const WirePhone phone(Wire::Tcp, {.variables = kVariables, .deaf_calls = 1});
  CHECK(value_of(sheet_of(phone)).text("phone.product") == "gnomon");
  // One that never greets is given up in the time for reaching a phone, not for its thinking.
  const WirePhone deaf(Wire::Tcp, {.variables = kVariables, .deaf_calls = 1000});
  Patience patience = kPatient;
  patience.connect = std::chrono::milliseconds(300);
  const auto begun = std::chrono::steady_clock::now();
  const auto got = connect_phone(deaf.address(), {}, patience);
  REQUIRE_FALSE(got);
  CHECK(got.error().code == ErrorCode::LinkLost);
  CHECK(std::chrono::steady_clock::now() - begun < std::chrono::seconds(30));
}

TEST_CASE("phone: what is no bootloader, or ends, or has no end, is told so") {
  CHECK(refused(Wire::Tcp, {.greeting = ""}) == ErrorCode::LinkLost);
  CHECK(refused(Wire::Tcp, {.greeting = "HTTP"}) == ErrorCode::LinkLost);
  CHECK(refused(Wire::Tcp, {.greeting = "FB"}, kShort) == ErrorCode::LinkLost);
  CHECK(refused(Wire::Tcp, {.raw = be64(std::uint64_t{1} << 62)}) == ErrorCode::LimitExceeded);
  CHECK(refused(Wire::Tcp, {.raw = be64(9) + "OK"}) == ErrorCode::LinkLost);
  CHECK(refused(Wire::Tcp, {.raw = be64(4) + "DATA"}) == ErrorCode::LinkLost);
  CHECK(refused(Wire::Tcp, {.raw = be64(0)}) == ErrorCode::LinkLost);
  CHECK(refused(Wire::Tcp, {.replies = {"INFOx"}}, kShort) == ErrorCode::LinkLost);
  CHECK(refused(Wire::Udp, {.replies = {"INFOx"}}, kShort) == ErrorCode::LinkLost);
  CHECK(refused(Wire::Udp, {.packet = 100}) == ErrorCode::LinkLost);
  CHECK(refused(Wire::Udp, {.replies = {std::string(kMaxMessage + 9000, 'x')}}) ==
        ErrorCode::LimitExceeded);
  const WireHabits endless{
      .variables = {},
      .replies = std::vector<std::string>(120, std::string(60000, 'x').replace(0, 4, "INFO"))};
  CHECK(refused(Wire::Tcp, endless) == ErrorCode::LimitExceeded);
}

TEST_CASE("phone: nobody there is told in time, and a stop ends the waiting") {
  Patience patience = kShort;
  patience.connect = std::chrono::milliseconds(200);
  for (const Wire wire : {Wire::Tcp, Wire::Udp}) {
    PhoneAddress nobody;
    {
      const WirePhone gone(wire, {});
      nobody = gone.address();
    }
    const auto got = connect_phone(nobody, {}, patience);
    REQUIRE_FALSE(got);
    CHECK(got.error().code == ErrorCode::LinkLost);
    CHECK_FALSE(got.error().hint.empty());
    std::stop_source source;
    Context context;
    context.stop = source.get_token();
    source.request_stop();
    const auto stopped = connect_phone(nobody, context, patience);
    REQUIRE_FALSE(stopped);
    CHECK(stopped.error().code == ErrorCode::Interrupted);
  }
}

TEST_CASE("phone: text that follows text without an end of its line goes on there") {
  const WirePhone phone(Wire::Tcp,
                        {.replies = {"TEXTprod", "TEXTuct: gno", "INFOx: y", "OKAYdone"}});
  const LinkPtr link = value_of(connect_phone(phone.address(), {}, kPatient));
  const PhoneReply reply = value_of(ask_phone(*link, "getvar:all"));
  CHECK(reply.lines == std::vector<std::string>{"product: gno", "x: y"});
  CHECK(reply.text == "done");
  CHECK(ask_phone(*link, std::string(65, 'x')).error().code == ErrorCode::Usage);
}

TEST_CASE("phone: what it says while it works is heard in order, before the answer") {
  const auto says = [](const std::vector<std::string>& replies) {
    const WirePhone phone(Wire::Tcp, {.replies = replies});
    const LinkPtr link = value_of(connect_phone(phone.address(), {}, kPatient));
    std::vector<std::string> heard;
    const auto done = order_phone(*link, "erase:userdata",
                                  [&](const std::string& line) { heard.push_back(line); });
    heard.emplace_back(done ? "done" : done.error().found);
    return heard;
  };
  CHECK(says({"INFOerasing", "TEXTblock 1 ", "TEXTof 2\nblock", "TEXT 2 of 2\r\n", "INFO",
              "OKAYnow"}) ==
        std::vector<std::string>{"erasing", "block 1 of 2", "block 2 of 2", "done"});
  // Also where it ends in a refusal: the reason often stands in the lines before it.
  const auto refused = says({"INFOthe partition is busy", "FAILno"});
  REQUIRE(refused.size() == 2);
  CHECK(refused.front() == "the partition is busy");
  CHECK(refused.back() == "no");
}

namespace {

/// A wire on which the command goes out, and the sending ends all the same.
class CutLink final : public Link {
 public:
  explicit CutLink(ErrorCode why) : why_(why) {}
  Status send(View) override { return fail({.code = why_, .message = "cut"}); }
  Result<Bytes> receive() override { return fail({.code = why_, .message = "cut"}); }
  Status send_data(View, bool) override { return fail({.code = why_, .message = "cut"}); }
  Status receive_data(MutableView) override { return fail({.code = why_, .message = "cut"}); }
  void bear_silence(milliseconds) override {}

 private:
  ErrorCode why_;
};

}  // namespace

TEST_CASE("phone: an order whose sending was cut off may have come, a restart did not go out") {
  for (const ErrorCode why : {ErrorCode::LinkLost, ErrorCode::Interrupted}) {
    CutLink link(why);
    const auto told = order_phone(link, "flash:boot_a");
    REQUIRE_FALSE(told);
    CHECK(told.error().code == ErrorCode::ReplyLost);
    const auto left = send_away(link, "reboot");
    REQUIRE_FALSE(left);
    CHECK(left.error().code == why);
    CHECK(ask_phone(link, "getvar:product").error().code == why);
  }
  // What never went out is none of that.
  CutLink link(ErrorCode::LinkLost);
  CHECK(order_phone(link, "flash:" + std::string(kMaxCommand, 'x')).error().code ==
        ErrorCode::Usage);
}

TEST_CASE("phone: a reply of the longest length is read, one byte more is refused unread") {
  const auto reply = [](std::uint64_t size) {
    return refused(Wire::Tcp, {.raw = be64(size) + std::string(size, 'x')});
  };
  CHECK(reply(kMaxMessage) == ErrorCode::LinkLost);  // read, and it is no answer
  CHECK(reply(kMaxMessage + 1) == ErrorCode::LimitExceeded);
}

TEST_CASE("phone: answers that come late, a second time, are passed over") {
  const WirePhone phone(Wire::Udp, {.variables = kVariables, .packet = 512, .repeats = true});
  const Sheet sheet = value_of(sheet_of(phone));
  CHECK(sheet.text("phone.product") == "gnomon");
  CHECK(sheet.size_of("boot_b") == 0x4000000);
  CHECK(sheet.text("state.lock") == "unlocked");
}
