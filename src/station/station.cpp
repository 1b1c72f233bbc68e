#include "heron/station/station.hpp"

#include <fmt/format.h>

#include "heron/files/picture_file.hpp"
#include "heron/locate/survey.hpp"

namespace heron {
namespace {

using Clock = std::chrono::steady_clock;

FindLimits limits_of(const StationTarget& t, FindLimits limits) {
  if (t.angle) limits.angle = *t.angle;
  if (t.scale) limits.scale = *t.scale;
  if (t.least_score) limits.least_score = *t.least_score;
  if (t.least_contrast) limits.least_contrast = *t.least_contrast;
  if (t.count) limits.count = *t.count;
  if (t.search) limits.region = Region::rectangle(*t.search);
  return limits;
}

/// What the robot is told. An ambiguous part stays in the report: the robot would go to a place that may be
/// wrong.
std::vector<text_protocol::Part> parts_of(const Report& report) {
  std::vector<text_protocol::Part> parts;
  for (const ReportedPart& p : report.parts)
    if (p.robot && !p.sighting.ambiguous)
      parts.push_back({report.number, static_cast<int>(parts.size()) + 1, p.sighting.target, p.robot->x_mm,
                       p.robot->y_mm, p.robot->angle.degrees(), p.sighting.score});
  return parts;
}

std::unique_ptr<Camera> recording_of(const std::string& address) {
  const std::string kind = "recording:";
  if (!address.starts_with(kind))
    fail_argument(fmt::format("station: the camera '{}' is no recording; open it and hand it over", address));
  return open_recording(address.substr(kind.size()));
}

/// A hand-eye mapping speaks of the robot's base or its flange already; a frame beside it would be applied
/// twice.
void require_frame_of(const MappingRecord& mapping, const StationFile& file) {
  const bool robot = mapping.world == "robot", flange = mapping.world == "flange";
  if (!robot && !flange) return;
  if (file.mount != (robot ? Mount::fixed : Mount::arm))
    fail_argument(
        fmt::format("station: {} is into the {}, so the camera is mounted \"{}\"; the station file "
                    "says otherwise",
                    file.mapping, robot ? "robot's base" : "robot's flange", robot ? "fixed" : "arm"));
  if (file.frame.x != 0 || file.frame.y != 0 || file.frame.angle.radians() != 0)
    fail_argument(fmt::format("station: {} is into the {} already (hand-eye); set {} = [0, 0, 0]",
                              file.mapping, robot ? "robot's base" : "robot's flange",
                              robot ? "robot_from_board" : "flange_from_board"));
}

}  // namespace

Station::Station(StationFile file, std::unique_ptr<Camera> camera)
    : file_(std::move(file)),
      camera_(camera ? std::move(camera) : recording_of(file_.camera)),
      mapping_(load_mapping(file_.mapping)) {
  require_frame_of(mapping_, file_);
  for (const StationTarget& t : file_.targets) {
    LoadedTarget loaded = load_target(t.file);
    const auto* pattern = loaded.target.as<PatternTarget>();
    if (pattern && pattern->settings().height_step_mm > 0)
      fail_argument(fmt::format(
          "station: {} was taught from a height map; a station looks at pictures, so teach it from one",
          t.file));
    const FindLimits limits = limits_of(t, loaded.target.limits());
    require_honoured(limits, loaded.target.info());
    looks_at_color_ = looks_at_color_ || loaded.target.info().color != ColorUse::none;
    targets_.push_back({std::move(loaded.target), limits});
  }
}

void Station::open_link() { link_.emplace(file_.link); }

Report Station::examine(const Picture& picture, const Pose2& robot_from_world) {
  if (picture.width() != mapping_.width || picture.height() != mapping_.height)
    fail_argument(
        fmt::format("station: {} has {} x {} pixels, the mapping was made with {} x {}; calibrate anew for "
                    "this picture size",
                    picture.name, picture.width(), picture.height(), mapping_.width, mapping_.height));
  const auto begun = Clock::now();
  const auto* color = std::get_if<Image<Rgb>>(&picture.pixels);
  const Survey survey = looks_at_color_ && color ? Survey(Image<Rgb>(*color)) : Survey(grey_levels(picture));
  const Frames frames{&mapping_.mapping, mapping_.axes ? &*mapping_.axes : nullptr, &robot_from_world};
  Report report;
  for (const Loaded& t : targets_)
    add_findings(report, find(t.target, survey, t.limits, file_.quick ? Explain::never : Explain::always),
                 frames, t.target.place());
  report.number = number_;
  report.picture = picture.name;
  report.elapsed_ms = std::chrono::duration<double, std::milli>(Clock::now() - begun).count();
  return report;
}

bool Station::take_picture() {
  auto picture = camera_->take();
  if (!picture) return false;
  picture_ = std::move(*picture);
  ++number_;
  return true;
}

std::optional<Report> Station::step() {
  if (!link_) fail_argument("station: the link is not open; call open_link() first");
  return file_.mode == LinkMode::push ? push_step() : ask_step();
}

std::optional<Report> Station::push_step() {
  if (!take_picture()) {
    link_->farewell(number_);
    return std::nullopt;
  }
  const auto taken = Clock::now();
  Report report = examine(picture_, file_.frame);
  const int64_t age = std::chrono::duration_cast<std::chrono::milliseconds>(Clock::now() - taken).count();
  link_->deliver(report.number, parts_of(report), age);
  if (!link_->wait_done(report.number)) ++unfinished_;
  return report;
}

std::optional<Report> Station::ask_step() {
  for (;;) {
    const text_protocol::Next question = link_->wait_next(number_);
    if (file_.mount == Mount::arm && !question.robot_from_flange) {
      link_->refuse("the camera is on the arm: ask with NEXT AT x y angle");
      continue;
    }
    if (!take_picture()) {
      link_->farewell(number_);
      return std::nullopt;
    }
    // The picture belongs to the pose it was asked with, for all of its parts.
    const Pose2 frame = file_.mount == Mount::arm ? *question.robot_from_flange * file_.frame : file_.frame;
    Report report = examine(picture_, frame);
    for (const text_protocol::Part& part : parts_of(report)) {
      while (!link_->answer(part, report.number))
        link_->wait_next(report.number);  // an answer that got lost is asked for again
      link_->wait_next(report.number);
    }
    while (!link_->answer(text_protocol::None{report.number}, report.number)) link_->wait_next(report.number);
    return report;
  }
}

}  // namespace heron
