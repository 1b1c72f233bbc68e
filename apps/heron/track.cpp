#include <fmt/format.h>

#include <filesystem>
#include <nlohmann/json.hpp>

#include "any_camera.hpp"
#include "commands.hpp"
#include "heron/base/error.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/files/recording.hpp"
#include "heron/files/report_json.hpp"
#include "heron/files/target_file.hpp"
#include "heron/locate/follow.hpp"
#include "heron/report/report.hpp"
#include "steps.hpp"
#include "stopping.hpp"

namespace heron::tool {
namespace {

using Json = nlohmann::ordered_json;

struct TrackArguments {
  std::string target, camera, mapping;
  int count = 0;
  FollowSettings follow;
  bool json = false;
};

Json json_of(const Velocity& v) {
  const auto known = [](const std::optional<double>& sigma) { return sigma ? Json(*sigma) : Json(nullptr); };
  return {{"x", v.x}, {"y", v.y}, {"sigma", {{"x", known(v.sigma_x)}, {"y", known(v.sigma_y)}}}};
}

std::string sigma_text(const Velocity& v) {
  return v.sigma_x && v.sigma_y ? fmt::format(" \u00b1 {:.2f}", std::max(*v.sigma_x, *v.sigma_y)) : "";
}

void print_picture(const Report& report, double at_s, const std::vector<Followed>& who,
                   const std::vector<int>& lost, bool json) {
  if (json) {
    Json line{{"picture", report.picture}, {"at_s", at_s}, {"found", Json::array()}, {"lost", lost}};
    for (size_t i = 0; i < who.size(); ++i) {
      Json one{{"identity", who[i].identity}, {"pictures", who[i].pictures}};
      one.update(Json::parse(part_json(report.parts[i])));
      one["velocity"] = who[i].velocity ? json_of(*who[i].velocity) : Json(nullptr);
      if (who[i].velocity_mm) one["world"]["velocity"] = json_of(*who[i].velocity_mm);
      line["found"].push_back(std::move(one));
    }
    fmt::print("{}\n", line.dump(-1, ' ', false, Json::error_handler_t::replace));
    return;
  }
  fmt::print("{:.3f} s  {}\n", at_s, std::filesystem::path(report.picture).filename().string());
  if (who.empty()) fmt::print("  nothing found; heron find tells what was turned away\n");
  for (size_t i = 0; i < who.size(); ++i) {
    const Detection& s = report.parts[i].detection;
    fmt::print("  #{:<3} {:<12} {:>9.3f} {:>9.3f} px", who[i].identity, s.target, s.x, s.y);
    if (const auto& v = who[i].velocity)
      fmt::print("   {:>8.2f} {:>8.2f}{} px/s", v->x, v->y, sigma_text(*v));
    if (const auto& v = who[i].velocity_mm)
      fmt::print("   {:>8.2f} {:>8.2f}{} mm/s", v->x, v->y, sigma_text(*v));
    fmt::print("\n");
  }
  for (const int identity : lost) fmt::print("  #{} is gone\n", identity);
}

/// A picture's file has a time too, but not that of its exposure.
void require_times(const std::string& folder) {
  for (const RecordedPicture& p : load_recording(folder).pictures)
    if (!p.at_s)
      throw Error(ErrorCode::bad_file,
                  fmt::format("track: {} has no time; a velocity needs at_s of every picture in "
                              "{}/recording.toml (`heron record` writes it)",
                              p.file, folder));
}

int track(const TrackArguments& o) {
  const Target target = load_target(o.target).target;
  std::optional<MappingRecord> mapping;
  if (!o.mapping.empty()) mapping = load_mapping(o.mapping);
  const std::string recording = "recording:";
  const std::string address = std::filesystem::is_directory(o.camera) ? recording + o.camera : o.camera;
  if (address.starts_with(recording)) require_times(address.substr(recording.size()));
  Work& stop = stop_on_signals();
  const auto camera = open_any_camera(address, Pace::at_once, &stop);
  Follower follower(o.follow);
  std::optional<std::chrono::system_clock::time_point> begun;
  bool nothing = false;
  for (int taken = 0; o.count == 0 || taken < o.count; ++taken) {
    const auto picture = camera->take();
    if (!picture) break;
    if (!begun) begun = picture->taken;
    const double at_s = std::chrono::duration<double>(picture->taken - *begun).count();
    Report report;
    report.picture = picture->name;
    FindResult result = find(target, prepare(*picture, target), target.options(), Explain::never, &stop);
    if (stop.stopped()) break;
    add_result(report, std::move(result),
               mapping ? Frames{&mapping->mapping, mapping->axes ? &*mapping->axes : nullptr} : Frames{},
               target.geometry());
    std::vector<Detection> seen;
    std::vector<UserPoint> world;
    for (const ReportedPart& part : report.parts) {
      seen.push_back(part.detection);
      if (part.world) world.push_back(part.world->position());
    }
    if (world.size() != seen.size()) world.clear();
    nothing = nothing || seen.empty();
    std::vector<Followed> who;
    try {
      who = follower.follow(seen, world, at_s);
    } catch (const Error& error) {
      throw Error(ErrorCode::bad_file, fmt::format("track: {}: {}", picture->name, error.what()));
    }
    print_picture(report, at_s, who, follower.lost(), o.json);
    std::fflush(stdout);
  }
  return status_after_stop(nothing ? 1 : 0);
}

}  // namespace

void add_track(CLI::App& app, Action& action) {
  auto o = std::make_shared<TrackArguments>();
  CLI::App* c =
      app.add_subcommand("track", "Tracks detections from picture to picture and measures their velocity");
  c->add_option("target", o->target, "target file")->required();
  c->add_option("camera", o->camera, "a recording, or a camera as in `heron cameras`")->required();
  c->add_option("--mapping", o->mapping, "mapping file; adds millimetres per second");
  c->add_option("--count", o->count, "number of pictures; 0: until the recording ends")
      ->check(CLI::Range(0, 1000000000));
  c->add_option("--reach", o->follow.reach_px, "largest distance from the predicted position, pixels")
      ->capture_default_str();
  c->add_option("--lost-after", o->follow.lost_after_s, "seconds without a detection")->capture_default_str();
  c->add_option("--span", o->follow.span_s, "time over which a velocity is fitted, seconds")
      ->capture_default_str();
  c->add_flag("--json", o->json, "prints one JSON object for each picture");
  c->footer(
      "Example: heron track studio/belt.png studio/belt/pictures\nExit status 1 when a picture holds "
      "nothing.");
  c->callback([o, &action] { action = [o] { return track(*o); }; });
}

}  // namespace heron::tool
