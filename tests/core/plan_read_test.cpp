/// plan.toml: what was written reads back the same, and what is wrong is refused with line and key.

#include "support/plan_facts.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

/// One step of every act, with every key.
Plan every_act() {
  const KitFile file{"flash/x.img", 4096, std::string(64, 'a')};
  const std::vector<Act> acts{
      act::Expect{.variable = "product", .value = "gnomon|gnomon2"},
      act::Expect{.variable = "partition-size:x", .at_least = 4096},
      act::Expect{.variable = "anti", .at_most = 3},
      act::EnterMode{Mode::Userspace},
      act::Write{.partition = "x", .slot = SlotRole::Other, .file = file, .piece = 2, .pieces = 3},
      act::Write{.partition = "x_b", .file = file},
      act::Start{file},
      act::Drop{"product_a"},
      act::Create{"product_a", 1u << 20},
      act::Resize{"system_a", 1u << 21},
      act::ChooseSlot{SlotRole::Other, "b"},
      act::CancelUpdate{},
      act::Install{{"install/x.zip", 9, std::string(64, 'b')}},
      act::HandOver{.file = file, .field = "the system part", .settings = {"a \"b\"", "c"}},
      act::HandOver{.field = "the whole package"},
      act::Wipe{},
      act::Restart{},
      act::ByHand{.task = Task::LockWithKey, .file = {"key/k.bin", 0, std::string(64, 'c')}},
      act::ByHand{.task = Task::Write, .partition = "x", .slot = SlotRole::Current}};
  Plan plan{.device = "gnomon",
            .build = "korvale/gnomon/gnomon:16/A/1:user/k",
            .needs = Needs::OwnKey,
            .needs_why = "It is signed.",
            .key_file = "key/k.bin",
            .key_sha256 = std::string(64, 'c'),
            .first = {"First \\ this."},
            .back_first = {"And that."}};
  for (std::size_t i = 0; i < acts.size(); ++i) {
    Step step{.id = "step-" + std::to_string(i),
              .act = acts[i],
              .about = "What.",
              .before = "before",
              .success = "success",
              .screen = i % 2 == 0 ? "a screen" : "",
              .notes = i % 3 == 0 ? std::vector<std::string>{"über"} : std::vector<std::string>{},
              .risk = {.data_loss = i % 2 == 0, .final = i % 5 == 0},
              .usual_seconds = static_cast<unsigned>(i) + 1};
    plan.back.push_back(step);
    step.undo = step.id;
    plan.steps.push_back(std::move(step));
  }
  return plan;
}

std::string with(const std::string& was, const std::string& now) {
  std::string text = format_plan(every_act());
  const std::size_t at = text.find(was);
  REQUIRE_MESSAGE(at != text.npos, was);
  return text.replace(at, was.size(), now);
}

}  // namespace

TEST_CASE("plan.toml: every act with every key reads back as it was written") {
  const Plan plan = every_act();
  const std::string text = format_plan(plan);
  CHECK(value_of(read_plan(text, "plan.toml")) == plan);
  CHECK(format_plan(value_of(read_plan(text, "plan.toml"))) == text);
}

TEST_CASE("plan.toml: what is wrong is refused with its line and its key") {
  struct Case {
    std::string was, now, key;
  };
  const std::vector<Case> cases{
      {"do = \"wipe\"", "do = \"whipe\"", "do"},
      {"mode = \"userspace\"", "mode = \"user\"", "mode"},
      {"slot = \"other\"", "slot = \"others\"", "slot"},
      {"piece = \"2 of 3\"", "piece = \"3 of 2\"", "piece"},
      {"piece = \"2 of 3\"", "piece = \"2 of 3 \"", "piece"},
      {"at_least = 4096", "at_least = -1", "at_least"},
      {"at_least = 4096", "value = \"\"", "value"},
      {"at_least = 4096", "at_least = 4096\nat_most = 9", "value"},
      {"at_least = 4096", "at_least = 4096\nvalue = \"x\"", "value"},
      {"usual_seconds = 1\n", "usual_seconds = 0\n", "usual_seconds"},
      {"usual_seconds = 1\n", "usual_seconds = \"1\"\n", "usual_seconds"},
      {"data_loss = true", "data_loss = 1", "data_loss"},
      {"id = \"step-1\"", "id = \"step-0\"", "id"},
      {"undo = \"step-0\"", "undo = \"step-99\"", "undo"},
      {"task = \"write\"", "task = \"paint\"", "task"},
      {"variable = \"product\"", "variable = 3", "variable"},
      {"variable = \"product\"\n", "", "variable"},
      {"partition = \"x_b\"\n", "", "partition"},
      {"field = \"the system part\"\n", "", "field"},
      {"before = \"before\"", "befor = \"before\"", "befor"},
      {"needs = \"own-key\"", "needs = \"luck\"", "needs"},
      {"device = \"gnomon\"", "devise = \"gnomon\"", "devise"},
      {"value = \"b\"", "value = \"c\"", "value"},
      {"settings = [\"a \\\"b\\\"\", \"c\"]", "settings = [1]", "settings"}};
  for (const Case& one : cases) {
    CAPTURE(one.now);
    const std::string text = with(one.was, one.now);
    const auto plan = read_plan(text, "plan.toml");
    REQUIRE_FALSE(plan);
    CHECK(plan.error().code == ErrorCode::BadValue);
    const std::string said = describe(plan.error());
    CAPTURE(said);
    CHECK(said.contains("plan.toml"));
    CHECK(said.contains("line "));
    CHECK(said.contains(one.key));
  }
  for (const char* other : {"format = 1", "format = 3"})
    CHECK(read_plan(with("format = 2", other), "p").error().code == ErrorCode::Unsupported);
  CHECK(read_plan("format = 2\nstep = 3\n", "p").error().code == ErrorCode::BadValue);
  CHECK(read_plan("what", "p").error().code == ErrorCode::BadValue);
}

TEST_CASE("plan.toml: a plan cut anywhere, or with any byte changed, is refused or reads") {
  const std::string text = format_plan(make_plan(generic_system()));
  for (std::size_t size = 0; size < text.size(); size += 97)
    static_cast<void>(read_plan(text.substr(0, size), "cut"));
  for (std::size_t at = 0; at < text.size(); at += 41) {
    std::string changed = text;
    changed[at] = static_cast<char>(changed[at] ^ 0x15);
    const auto plan = read_plan(changed, "changed");
    if (plan) CHECK(value_of(read_plan(format_plan(*plan), "again")) == *plan);
  }
}

TEST_CASE("plan: sizes and digests of what was written are filled in, and the time with them") {
  Plan plan;
  plan.steps.push_back({.id = "w", .act = act::Write{.partition = "x", .file = {"flash/x.img"}}});
  plan.back.push_back({.id = "h", .act = act::HandOver{.file = {"package/t"}, .field = "f"}});
  fill_in(plan, {{"flash/x.img", {"flash/x.img", 400u << 20, "d"}},
                 {"package/t", {"package/t", 5, "t"}}});
  CHECK(plan.steps[0].get<act::Write>()->file.sha256 == "d");
  CHECK(plan.steps[0].usual_seconds == usual_write_seconds(400u << 20));
  CHECK(plan.back[0].get<act::HandOver>()->file.size == 5);
  CHECK(plan.back[0].usual_seconds == 1);
}
