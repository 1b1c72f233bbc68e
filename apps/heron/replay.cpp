#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <filesystem>
#include <map>
#include <nlohmann/json.hpp>

#include "commands.hpp"
#include "heron/base/error.hpp"
#include "heron/draw/overlay.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/report_json.hpp"
#include "heron/station/compare_reports.hpp"
#include "heron/station/station.hpp"
#include "log.hpp"
#include "options.hpp"
#include "replay_drift.hpp"
#include "stopping.hpp"

namespace heron::tool {
namespace {

struct ReplayOptions {
  std::string station, pictures, drift;
  ReplayRange range = {};
  std::optional<int> setup = {};
  bool bad = false, json = false;
};

/// Today's settings, by set-up; only 0 where there is one.
using SettingsToday = std::map<int, std::string>;

struct ReplayTally {
  int replayed = 0, different = 0, without_picture = 0, other_settings = 0;
};

/// The pictures come from the store; a camera need not be there.
class NoCamera : public Camera {
 public:
  CameraInfo info() const override { return {.address = "none", .name = "none"}; }
  std::optional<Picture> take() override { return std::nullopt; }
  void set_exposure_ms(double) override {}
  void set_gain(double) override {}
};

/// Today's look at a picture of that day, with the same set-up.
Report looked_at_again(Station& station, const std::string& path, const Report& then) {
  const StationFile& file = station.file();
  const int number = then.setup ? then.setup->number : 0;
  if (number != station.selected())
    if (const CommandAnswer answer = station.select(number); !answer.taken)
      fail_argument(fmt::format("replay: result {} was looked at with set-up {}: {}", then.number, number,
                                answer.reason));
  RobotFromWorld frame = file.setup.robot_from_world;
  for (const SetUp& s : file.setups)
    if (s.number == number) frame = s.robot_from_world;
  Report now = station.examine(load_picture(path), frame);
  now.number = then.number;
  return now;
}

void print_replayed(const StoredResult& stored, const Report& then, const Report& now,
                    const std::vector<std::string>& changes, bool json) {
  if (json) {
    nlohmann::ordered_json line{{"replay", true},
                                {"number", stored.number},
                                {"picture", then.picture},
                                {"differences", changes},
                                {"then", nlohmann::ordered_json::parse(stored.report)},
                                {"now", nlohmann::ordered_json::parse(report_json(now))}};
    fmt::print("{}\n", line.dump(-1, ' ', false, nlohmann::ordered_json::error_handler_t::replace));
  } else if (changes.empty()) {
    fmt::print("replay {:6}  {}: as then, {} part{}{}\n", stored.number, then.picture, then.parts.size(),
               then.parts.size() == 1 ? "" : "s",
               then.verdict ? fmt::format(", {}", word_of(*then.verdict)) : "");
  } else {
    fmt::print("replay {:6}  {}: differs\n", stored.number, then.picture);
    for (const std::string& change : changes) fmt::print("               {}\n", change);
  }
  std::fflush(stdout);
}

void replay_one(Station& station, const SettingsToday& settings, const StoredResult& stored,
                const ReplayOptions& o, ReplayTally& tally) {
  const Report then = report_of_json(stored.report, fmt::format("result {}", stored.number));
  if (o.bad && !is_bad(then)) return;
  const std::string path =
      PictureFolder::find(station.file().store->results.folder + "/pictures", stored.number);
  if (path.empty()) return void(++tally.without_picture);
  const Report now = looked_at_again(station, path, then);
  const std::vector<std::string> changes = differences(then, now);
  ++tally.replayed, tally.different += !changes.empty();
  const auto today = settings.find(then.setup ? then.setup->number : 0);
  tally.other_settings += today == settings.end() || today->second != stored.settings;
  print_replayed(stored, then, now, changes, o.json);
  if (!o.pictures.empty())
    save_picture(
        (std::filesystem::path(o.pictures) / fmt::format("replay-{:06}.png", stored.number)).string(),
        draw_report(station.view(load_picture(path)), now));
}

int replay_drift(const ReplayOptions& o, const StationFile& file) {
  const auto setups = file.all_setups();
  const auto at = std::find_if(setups.begin(), setups.end(),
                               [&](const SetUp& s) { return !o.setup || s.number == *o.setup; });
  if (at == setups.end() || (!o.setup && setups.size() > 1)) {
    std::vector<int> numbers;
    for (const SetUp& s : setups) numbers.push_back(s.number);
    fail_argument(fmt::format("replay: --drift draws one set-up; give --set-up with one of {}",
                              fmt::join(numbers, ", ")));
  }
  return plot_drift(file, *at, o.range, o.drift) ? 0 : 1;
}

int replay(const ReplayOptions& o) {
  StationFile file = load_station(o.station);
  if (!file.store)
    fail_argument(fmt::format("replay: {} has no [store], and so no results to look at again", o.station));
  if (o.range.to && *o.range.to < o.range.from)
    fail_argument(fmt::format("replay: --from {} is above --to {}", o.range.from, *o.range.to));
  if (o.setup && o.drift.empty()) fail_argument("replay: --set-up needs --drift");
  if (!o.drift.empty()) return replay_drift(o, file);
  const auto setups = file.all_setups();
  if (std::any_of(setups.begin(), setups.end(), [](const SetUp& s) { return s.mount == Mount::arm; }))
    fail_argument("replay: the camera is on the arm, and where it stood with each picture is not stored");
  if (!o.pictures.empty()) std::filesystem::create_directories(o.pictures);
  const StoreReader store(file.store->results.folder);
  Work& stop = stop_on_signals();
  SettingsToday settings;
  Cameras cameras;
  for (const SetUp& s : setups) {
    settings[s.number] = settings_hash(file, s);
    cameras[s.camera] = std::make_unique<NoCamera>();
  }
  Station station(std::move(file), std::move(cameras), &stop);
  ReplayTally tally;
  constexpr size_t at_once = 100;
  uint64_t last = o.range.from > 0 ? o.range.from - 1 : 0;
  for (bool more = true; more && !stop.stopped();) {
    const auto results = store.after(last, at_once);
    more = results.size() == at_once;
    for (const StoredResult& stored : results) {
      if (stop.stopped() || (o.range.to && stored.number > *o.range.to)) {
        more = false;
        break;
      }
      last = stored.number;
      replay_one(station, settings, stored, o, tally);
    }
  }
  std::string text = fmt::format("{} of {} results differ", tally.different, tally.replayed);
  if (tally.without_picture > 0) text += fmt::format(", {} have no picture", tally.without_picture);
  if (tally.other_settings > 0)
    text += fmt::format("; the settings have changed since {}", tally.other_settings);
  log_note("replay: {}{}", stop.stopped() ? "stopped by a signal: " : "", text);
  return status_after_stop(tally.different > 0 ? 1 : 0);
}

}  // namespace

void add_replay(CLI::App& app, Action& action) {
  auto o = std::make_shared<ReplayOptions>();
  CLI::App* c = app.add_subcommand(
      "replay", "Looks at a station's stored pictures again with today's settings and says what differs");
  c->add_option("station", o->station, "station file with a [store] that keeps pictures")->required();
  c->add_option("--from", o->range.from, "first result")->capture_default_str()->check(not_negative);
  c->add_option("--to", o->range.to, "last result; the newest unless given")->check(not_negative);
  c->add_flag("--bad", o->bad,
              "only results without a part, with a part withheld, or with a verdict that is not good");
  c->add_option("--pictures", o->pictures, "folder for the pictures with today's overlays");
  auto* json =
      c->add_flag("--json", o->json, "prints one JSON object for each result: then, now and the differences");
  c->add_option(
       "--drift", o->drift,
       "draws how score, contrast, time and what [drift] watches went over the stored results, as .png, "
       ".svg or .pdf; no picture is looked at again")
      ->excludes(json)
      ->excludes("--bad")
      ->excludes("--pictures");
  c->add_option("--set-up", o->setup, "number of the set-up whose drift is drawn, where there are several");
  c->footer(
      "Example: heron replay station.toml --bad\nNothing is sent, and the store stays as it is. Exit status "
      "1 "
      "when a result differs.");
  c->callback([o, &action] { action = [o] { return replay(*o); }; });
}

}  // namespace heron::tool
