/// The bootloader's protocol, both ends: what is played over a wire leaves the same phone as what
/// is played directly.

#include "phone/fastboot/fastboot_phone.hpp"
#include "support/plan_facts.hpp"
#include "support/rounds.hpp"
#include "support/served.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

WordPhone small_phone() {
  WordPhone out{.state = {},
                .partitions = {{"boot_a", "old"}, {"boot_b", "old"}, {"system_a", "old"}},
                .sizes = {{"boot_a", kMiB}, {"boot_b", kMiB}},
                .logical = {{"system_a", 2 * kMiB}},
                .super = 4 * kMiB};
  out.state.product = "gnomon";
  out.state.mode = PhoneMode::Bootloader;
  return out;
}

PhoneFile file_of_bytes(const std::string& bytes) {
  return {.name = "f",
          .size = bytes.size(),
          .sha256 = {},
          .bytes = open_memory(Blob(to_bytes(bytes)), "f")};
}

std::string noisy(std::size_t size) {
  Random random(7);
  std::string out(size, '\0');
  for (char& one : out)
    one = static_cast<char>(random());
  return out;
}

/// The fault that a phone shows to its host, and what the host makes of it.
struct FaultCase {
  const char* fault;
  ErrorCode code;
  bool written;  ///< the phone holds it all the same
};

}  // namespace

TEST_CASE("wire: a write over TCP and UDP: the phone holds it, and gives it back") {
  for (const Wire wire : {Wire::Tcp, Wire::Udp}) {
    CAPTURE(static_cast<int>(wire));
    WordPhone start = small_phone();
    start.state.gives_back = ReadingBack::Everywhere;
    start.state.fetch_limit = 70'000;
    WirePhoneServed served(start.made(), wire);
    FastbootPhone client = served.client();
    const std::string bytes = noisy(300'001);
    const PhoneFile file = file_of_bytes(bytes);
    CHECK(value_of(client.variable("product")) == "gnomon");
    CHECK(client.mode() == PhoneMode::Bootloader);
    CHECK_FALSE(value_of(client.variable("nothing-of-this-name")).has_value());
    const auto written = client.write("boot_b", file);
    REQUIRE_MESSAGE(written, describe(written.error()));
    CHECK(value_of(client.holds("boot_b", file)) == true);
    CHECK(value_of(client.holds("boot_a", file)) == false);
    const std::lock_guard mine(served.turn);
    const Bytes held =
        value_of(read_some(*value_of(served.phone().content("boot_b")), 0, bytes.size()));
    CHECK(equal(held, as_view(bytes)));
  }
}

TEST_CASE("wire: progress is told in bytes, to the last one") {
  WirePhoneServed served(small_phone().made(), Wire::Tcp);
  std::vector<std::uint64_t> seen;
  Context context;
  context.progress = [&](std::uint64_t done, std::uint64_t total) {
    CHECK(total == 3'000'000);
    seen.push_back(done);
  };
  FastbootPhone client({served.address()}, context, kWaits);
  // Larger than the partition: the phone refuses it once it has it.
  const auto refused = client.write("boot_a", file_of_bytes(std::string(3'000'000, 'x')));
  REQUIRE_FALSE(refused);
  CHECK(refused.error().code == ErrorCode::PhoneRefused);
  CHECK(refused.error().found.contains("boot_a has 1048576 bytes"));
  REQUIRE(seen.size() >= 3);
  CHECK(std::ranges::is_sorted(seen));
  CHECK(seen.back() == 3'000'000);
}

TEST_CASE("wire: an image over the download limit goes in sparse pieces, and comes out whole") {
  for (const bool sparse_already : {false, true}) {
    CAPTURE(sparse_already);
    WordPhone start = small_phone();
    start.state.download_limit = 256 * 1024;
    start.state.gives_back = ReadingBack::Everywhere;
    start.sizes["boot_a"] = 4 * kMiB;
    WirePhoneServed served(start.made(), Wire::Tcp);
    FastbootPhone client = served.client();
    // Noise, zeros, noise: what is zero has to be zero on the phone, too.
    const std::string bytes = noisy(700'000) + std::string(500'000, '\0') + noisy(300'032);
    PhoneFile file = file_of_bytes(bytes);
    if (sparse_already) file.bytes = value_of(as_sparse({*file.bytes}, "f", {}));
    put_word(served.phone(), "boot_a", "what was there before");
    const auto written = client.write("boot_a", file);
    REQUIRE_MESSAGE(written, describe(written.error()));
    CHECK(value_of(client.holds("boot_a", file)) == true);
    const std::lock_guard mine(served.turn);
    const Bytes held =
        value_of(read_some(*value_of(served.phone().content("boot_a")), 0, bytes.size()));
    CHECK(equal(held, as_view(bytes)));
  }
}

TEST_CASE("wire: modes: the client follows the phone, and waits for hands where no command leads") {
  WirePhoneServed served(small_phone().made(), Wire::Tcp);
  FastbootPhone client = served.client();
  REQUIRE(client.enter(PhoneMode::Userspace));
  CHECK(client.mode() == PhoneMode::Userspace);
  CHECK(value_of(client.variable("is-userspace")) == "yes");
  REQUIRE(client.resize_logical("system_a", 4 * kMiB));
  REQUIRE(client.drop_logical("system_a"));
  REQUIRE(client.create_logical("product_a", kMiB));
  REQUIRE(client.enter(PhoneMode::Bootloader));
  CHECK(value_of(client.variable("is-userspace")) == "no");
  CHECK(client.create_logical("odm_a", kMiB).error().code == ErrorCode::PhoneRefused);
  REQUIRE(client.choose_slot("b"));
  CHECK(value_of(client.variable("current-slot")) == "b");
  CHECK(client.enter(PhoneMode::Download).error().code == ErrorCode::Unsupported);
  REQUIRE(client.enter(PhoneMode::Recovery));
  CHECK(client.mode() == PhoneMode::Recovery);
  CHECK(client.enter(PhoneMode::Bootloader).error().code == ErrorCode::Unsupported);
  {
    const std::lock_guard mine(served.turn);
    CHECK(served.phone().mode() == PhoneMode::Recovery);
    CHECK(served.phone().is_logical("product_a"));
    CHECK_FALSE(served.phone().is_logical("system_a"));
    served.phone().bring(PhoneMode::Bootloader);
  }
  REQUIRE(client.brought(PhoneMode::Bootloader));
  REQUIRE(client.restart());
  CHECK(client.mode() == PhoneMode::System);
  const std::lock_guard mine(served.turn);
  CHECK(served.phone().mode() == PhoneMode::System);
}

TEST_CASE("wire: faults: what was not done is told apart from what may have been done") {
  const std::vector<FaultCase> cases{
      {"drop=100000", ErrorCode::LinkLost, false},
      {"refuse=download", ErrorCode::PhoneRefused, false},
      {"refuse=flash:boot", ErrorCode::PhoneRefused, false},
      {"no-reply=flash:", ErrorCode::ReplyLost, true},
      {"dead-cable=3", ErrorCode::LinkLost, false},
  };
  for (const FaultCase& one : cases)
    for (const bool over_wire : {false, true}) {
      CAPTURE(one.fault);
      CAPTURE(over_wire);
      const std::string bytes = noisy(500'000);
      const PhoneFile file = file_of_bytes(bytes);
      auto phone = small_phone().made(Faults({value_of(parse_fault(one.fault))}));
      // The client asks for three variables before it writes: as many commands go before here.
      if (!over_wire)
        for (const char* name : {"serialno", "is-userspace", "max-download-size"})
          REQUIRE(phone->variable(name));
      Status written;
      bool held = false;
      const auto holds = [&](SimulatedPhone& at) {
        const Bytes now = value_of(read_some(*value_of(at.content("boot_a")), 0, bytes.size()));
        return equal(now, as_view(bytes));
      };
      if (over_wire) {
        WirePhoneServed served(std::move(phone), Wire::Tcp);
        FastbootPhone client = served.client();
        written = client.write("boot_a", file);
        const std::lock_guard mine(served.turn);
        held = holds(served.phone());
      } else {
        written = phone->write("boot_a", file);
        held = holds(*phone);
      }
      REQUIRE_FALSE(written);
      CHECK(written.error().code == one.code);
      CHECK(held == one.written);
    }
}

TEST_CASE("wire: a fault happens once, and the next try goes through") {
  for (const char* fault : {"drop=100000", "refuse=flash:boot", "no-reply=flash:"}) {
    CAPTURE(fault);
    WirePhoneServed served(small_phone().made(Faults({value_of(parse_fault(fault))})), Wire::Tcp);
    FastbootPhone client = served.client();
    const PhoneFile file = file_of_bytes(noisy(500'000));
    CHECK_FALSE(client.write("boot_a", file));
    const auto again = client.write("boot_a", file);
    CHECK_MESSAGE(again, (again ? "" : describe(again.error())));
  }
}

TEST_CASE("wire: a lost answer is made up for by reading back, where the phone gives back") {
  for (const bool gives : {true, false}) {
    CAPTURE(gives);
    WordPhone start = small_phone();
    start.state.gives_back = gives ? ReadingBack::Everywhere : ReadingBack::Nowhere;
    WirePhoneServed served(start.made(Faults({value_of(parse_fault("no-reply=flash:"))})),
                           Wire::Tcp);
    FastbootPhone client = served.client();
    const std::vector<Step> steps{
        {.id = "to-bootloader", .act = act::EnterMode{Mode::Bootloader}},
        {.id = "write",
         .act =
             act::Write{.partition = "boot", .slot = SlotRole::Current, .file = {"f", 9, "new"}}},
        {.id = "restart", .act = act::Restart{}}};
    ServedHands hands(served, {});
    const Played played = play(steps, client, hands, files_of_plan(steps));
    CHECK(played.done() == gives);
    REQUIRE(played.steps.size() >= 2);
    CHECK(played.steps[1].outcome == (gives ? StepOutcome::Confirmed : StepOutcome::Unknown));
    if (!gives) CHECK(played.error->code == ErrorCode::ReplyLost);
  }
}

TEST_CASE("wire: a bad block is found where the phone gives back, and is never called confirmed") {
  for (const bool gives : {true, false}) {
    CAPTURE(gives);
    WordPhone start = small_phone();
    start.state.gives_back = gives ? ReadingBack::Everywhere : ReadingBack::Nowhere;
    WirePhoneServed served(start.made(Faults({value_of(parse_fault("bad-block"))})), Wire::Tcp);
    FastbootPhone client = served.client();
    const std::vector<Step> steps{
        {.id = "to-bootloader", .act = act::EnterMode{Mode::Bootloader}},
        {.id = "write",
         .act = act::Write{
             .partition = "boot", .slot = SlotRole::Current, .file = {"f", 9000, "new"}}}};
    ServedHands hands(served, {});
    const Played played = play(steps, client, hands, files_of_plan(steps));
    CHECK(played.done() != gives);
    CHECK(played.steps.back().outcome == (gives ? StepOutcome::Failed : StepOutcome::Accepted));
  }
}

TEST_CASE("wire: another phone at the same address is noticed") {
  WirePhoneServed served(small_phone().made(), Wire::Tcp);
  FastbootPhone client = served.client();
  REQUIRE(client.attach());
  CHECK(client.serial() == "SIMULATED1");
  client.let_go();
  {
    const std::lock_guard mine(served.turn);
    served.phone().state.serial = "ANOTHER";
  }
  const auto attached = client.attach();
  REQUIRE_FALSE(attached);
  CHECK(attached.error().found == "ANOTHER");
}

TEST_CASE("wire: whatever the plan, over a wire and directly: the same phone, and back to stock") {
  Random random(11);
  const auto coin = [&] { return random() % 2 == 0; };
  for (int round = 0; round < rounds(24); ++round) {
    CAPTURE(round);
    PlanFacts f = coin() ? generic_system() : facts();
    f.slotted = coin() || !f.room.empty();
    if (coin()) f.slots = Slots::Both;
    if (coin()) f.locked = coin();
    if (coin()) f.this_slot = "a";
    f.wipe = coin();
    const Plan plan = make_plan(f);
    PlanPhone start = f.room.empty() ? stock_phone(f) : phone_with_super(f);
    if (f.locked == true) start.state.locked = true;
    const auto stock = start.partitions;
    PlanPhone direct = start;
    direct.play(plan.steps);
    WirePhoneServed served(start.made(), f.room.empty() && round % 4 == 0 ? Wire::Udp : Wire::Tcp);
    FastbootPhone client = served.client();
    ServedHands hands(served, {});
    WordPhone wired;
    const auto play_there = [&](const std::vector<Step>& steps) {
      const Played played = play(steps, client, hands, files_of_plan(steps));
      CHECK_MESSAGE(played.done(), (played.done() ? "" : describe(*played.error)));
      const std::lock_guard mine(served.turn);
      wired.take(served.phone());
    };
    play_there(plan.steps);
    CHECK(wired.partitions == direct.partitions);
    CHECK(wired.logical == direct.logical);
    CHECK(wired.state.slot == direct.state.slot);
    CHECK(wired.state.locked == direct.state.locked);
    CHECK(wired.state.data == direct.state.data);
    direct.play(plan.back);
    play_there(plan.back);
    CHECK(wired.partitions == direct.partitions);
    CHECK(wired.partitions == stock);
  }
}
