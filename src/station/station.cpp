#include "heron/station/station.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cmath>

#include "control.hpp"
#include "heron/camera/pause.hpp"
#include "heron/files/gauge_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/report_json.hpp"
#include "heron/gauge/measure.hpp"
#include "heron/link/line_link.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/reader/reader.hpp"
#include "recording_of.hpp"

namespace heron {
namespace {

using Clock = std::chrono::steady_clock;

FindOptions find_options_of(const StationTarget& t, FindOptions options) {
  if (t.angle) options.angle = *t.angle;
  if (t.scale) options.scale = *t.scale;
  if (t.min_score) options.min_score = *t.min_score;
  if (t.min_contrast) options.min_contrast = *t.min_contrast;
  if (t.max_count) options.max_count = *t.max_count;
  if (t.search) options.region = Region::rectangle(*t.search);
  return options;
}

text_protocol::Part part_of(const ReportedPart& p, uint64_t number, int index) {
  using text_protocol::Field;
  text_protocol::Part part{number, index, p.detection.target};
  const RobotPose& robot = *p.robot;
  part[Field::x] = robot.x_mm, part[Field::y] = robot.y_mm, part[Field::z] = robot.z_mm;
  part[Field::score] = p.detection.score;
  part[Field::sigma_x] = robot.sigma.x, part[Field::sigma_y] = robot.sigma.y;
  if (p.detection.has_angle) {
    part[Field::angle] = robot.angle.degrees();
    if (robot.sigma.angle) part[Field::sigma_angle] = robot.sigma.angle->degrees();
  }
  part[Field::ambiguous] = p.detection.ambiguous ? 1 : 0;
  part[Field::range_end] = p.detection.range_end.empty() ? 0 : 1;
  if (p.verdict) part[Field::verdict] = static_cast<int>(*p.verdict);
  return part;
}

/// Why a part is not sent; empty when it is.
std::string withheld(const ReportedPart& p, const std::set<Doubt>& doubts) {
  if (!p.robot) return "its place is not known in the robot's frame";
  if (!part_of(p, 0, 1).can_be_sent()) return "its coordinates are larger than the protocol allows";
  if (p.detection.ambiguous && doubts.contains(Doubt::ambiguous)) return "ambiguous";
  if (!p.detection.range_end.empty() && doubts.contains(Doubt::range_end)) return "near a range's end";
  if (p.verdict && *p.verdict != Verdict::good && doubts.contains(Doubt::not_good))
    return word_of(*p.verdict);
  return {};
}

std::vector<text_protocol::Part> parts_of(const Report& report) {
  std::vector<text_protocol::Part> parts;
  for (const ReportedPart& p : report.parts)
    if (p.withheld.empty() && p.robot)
      parts.push_back(part_of(p, report.number, static_cast<int>(parts.size()) + 1));
  return parts;
}

std::string registers_text(const RegisterMap& map, const SentReport& sent) {
  std::vector<RegisterValue> values = registers_of(map, sent);
  std::sort(values.begin(), values.end(), [](const auto& a, const auto& b) { return a.at < b.at; });
  std::string text;
  for (const RegisterValue& v : values)
    text += fmt::format("{:5} {:04x} {} {}\n", v.at, fmt::join(v.words, " "), v.valid ? "valid" : "not valid",
                        v.refused.empty() ? v.name : v.refused);
  return text;
}

/// A hand-eye mapping speaks of the robot's base or its flange already; a frame beside it would be applied
/// twice.
void require_frame_of(const MappingRecord& mapping, const StationFile& file) {
  if (file.from_axes && !mapping.axes)
    fail_argument(
        fmt::format("station: {} has no user zero and axes, which the frame starts from; set them with "
                    "`heron map --set-zero`, or give {}_from_board",
                    file.mapping, file.mount == Mount::fixed ? "robot" : "flange"));
  const bool robot = mapping.world == "robot", flange = mapping.world == "flange";
  if (!robot && !flange) return;
  if (file.mount != (robot ? Mount::fixed : Mount::arm))
    fail_argument(
        fmt::format("station: {} is into the {}, so the camera is mounted \"{}\"; the station file "
                    "says otherwise",
                    file.mapping, robot ? "robot's base" : "robot's flange", robot ? "fixed" : "arm"));
  const Pose2 given = robot ? file.robot_from_world.plain() : file.flange_from_world.plain();
  if (given.x != 0 || given.y != 0 || given.angle.radians() != 0)
    fail_argument(fmt::format("station: {} is into the {} already (hand-eye); set {} = [0, 0, 0]",
                              file.mapping, robot ? "robot's base" : "robot's flange",
                              robot ? "robot_from_board" : "flange_from_board"));
}

void require_size(const std::string& name, int width, int height, const MappingRecord& mapping) {
  if (width != mapping.width || height != mapping.height)
    fail_argument(
        fmt::format("station: {} has {} x {} pixels, the mapping was made with {} x {}; calibrate anew for "
                    "this picture size",
                    name, width, height, mapping.width, mapping.height));
}

}  // namespace

Station::Station(StationFile file, std::unique_ptr<Camera> camera, Work* stop)
    : file_(std::move(file)),
      own_recording_(!camera),
      camera_(camera ? std::move(camera) : recording_of(file_.camera)),
      stop_(stop),
      mapping_(load_mapping(file_.mapping)),
      control_(std::make_unique<StationControl>(file_.trigger)) {
  require_frame_of(mapping_, file_);
  if (file_.exposure_ms) camera_->set_exposure_ms(*file_.exposure_ms);
  if (file_.gain) camera_->set_gain(*file_.gain);
  if (const CameraInfo info = camera_->info(); info.width > 0)
    require_size(info.address, info.width, info.height, mapping_);
  for (const StationTarget& t : file_.targets) {
    LoadedTarget loaded = load_target(t.file);
    const auto* pattern = loaded.target.as<PatternTarget>();
    if (pattern && pattern->settings().height_step_mm > 0)
      fail_argument(fmt::format(
          "station: {} was taught from a height map; a station looks at pictures, so teach it from one",
          t.file));
    const FindOptions options = find_options_of(t, loaded.target.options());
    try {
      require_honoured(options, loaded.target.info());
      require_valid(options);
    } catch (const Error& error) {
      throw Error(error.code(), fmt::format("station: {}: {}", t.file, error.what()));
    }
    looks_at_color_ = looks_at_color_ || loaded.target.info().looks_at_color;
    targets_.push_back({std::move(loaded.target), options});
  }
  if (!file_.gauges.empty()) load_gauge_set();
  require_readings();
}

/// A reading of a gauge that there is not would always be missing.
void Station::require_readings() const {
  std::vector<std::string> fields;
  if (file_.lines) fields = LineWriter(*file_.lines).fields();
  if (file_.registers)
    for (const MappedField& f : file_.registers->fields) fields.push_back(f.of);
  const std::string reading = "reading.";
  for (const std::string& field : fields)
    if (field.starts_with(reading) && !(gauges_ && gauges_->gauge(field.substr(reading.size()))))
      fail_argument(gauges_
                        ? fmt::format("station: the link sends '{}', and {} has no gauge of that name", field,
                                      file_.gauges)
                        : fmt::format("station: the link sends '{}', and the station has no gauges", field));
}

/// A gauge that follows a target which the station does not find would never be measured.
void Station::load_gauge_set() {
  gauges_ = load_gauges(file_.gauges);
  require_measurable(*gauges_, true);  // a station has a mapping
  for (const GaugeTarget& t : gauges_->targets) {
    if (!t.changed.empty())
      fail_argument(fmt::format(
          "station: {}: target '{}' was taught again since its gauges were drawn ({} changed); look at "
          "them and confirm with `heron gauge confirm {}`",
          file_.gauges, t.name, t.changed, file_.gauges));
    looks_at_color_ = looks_at_color_ || t.target->info().looks_at_color;
  }
  for (const Gauge& g : gauges_->gauges)
    if (gauges_->target(g.anchor) && std::none_of(targets_.begin(), targets_.end(), [&](const Loaded& t) {
          return t.target.name() == g.anchor;
        }))
      fail_argument(
          fmt::format("station: gauge '{}' of {} follows target '{}', which the station does not find",
                      g.name, file_.gauges, g.anchor));
}

void Station::open_link() {
  open_store();
  if (file_.registers) fail_argument("station: the link is Modbus; open a ModbusLink and hand it over");
  if (file_.lines)
    machine_ = std::make_unique<LineLink>(file_.link, *file_.lines, stop_);
  else
    link_.emplace(file_.link, stop_);
}

void Station::open_link(std::unique_ptr<MachineLink> link) {
  open_store();
  machine_ = std::move(link);
}

void Station::begin_dry_run() {
  if (file_.mount == Mount::arm)
    fail_argument(
        "station: the camera is on the arm, whose place comes with the robot's question; a dry run has no "
        "robot");
  dry_ = true;
  if (file_.trigger.by == Trigger::command)  // nobody can give one
    control_ = std::make_unique<StationControl>(TriggerSettings{});
}

void Station::require_link() const {
  if (!link_ && !machine_ && !dry_) fail_argument("station: the link is not open; call open_link() first");
}

LinkCounts Station::link_counts() const {
  return link_ ? link_->counts() : machine_ ? machine_->counts() : LinkCounts{};
}
Address Station::link_address() const {
  return link_ ? link_->address() : machine_ ? machine_->address() : file_.link.address;
}
bool Station::link_open_to_all() const {
  return link_ ? link_->open_to_all() : machine_ && machine_->open_to_all();
}

Report Station::examine(const Picture& picture, const RobotFromWorld& robot_from_world) {
  require_size(picture.name, picture.width(), picture.height(), mapping_);
  const auto begun = Clock::now();
  const auto* color = std::get_if<Image<Rgb>>(&picture.pixels);
  const PreparedPicture prepared =
      looks_at_color_ && color ? PreparedPicture(Image<Rgb>(*color)) : PreparedPicture(grey_levels(picture));
  const RobotFromUser robot_from_user(robot_from_world.plain());
  const Frames frames{.mapping = &mapping_.mapping,
                      .axes = mapping_.axes ? &*mapping_.axes : nullptr,
                      .robot_from_world = file_.from_axes ? nullptr : &robot_from_world,
                      .robot_from_user = file_.from_axes ? &robot_from_user : nullptr};
  Report report;
  for (const Loaded& t : targets_) {
    FindResult result =
        find(t.target, prepared, t.options, file_.quick ? Explain::never : Explain::always, stop_);
    report.complete = report.complete && result.complete;
    add_result(report, std::move(result), frames, t.target.geometry());
  }
  order_parts(report.parts, file_.order);
  if (gauges_) measure(report, *gauges_, prepared, frames, {}, stop_);
  report.picture = picture.name;
  if (gauges_) read_crops(report, *gauges_, stop_);
  for (ReportedPart& part : report.parts) part.withheld = withheld(part, file_.withhold);
  report.number = number_;
  report.elapsed_ms = std::chrono::duration<double, std::milli>(Clock::now() - begun).count();
  return report;
}

/// One failure of a camera is no end: a lost packet, an answer that came late.
std::optional<Picture> Station::take_patiently() {
  const auto deadline = Clock::now() + file_.camera_timeout;
  std::chrono::milliseconds wait{100};
  for (;;) try {
      return camera_->take();
    } catch (const Error& error) {
      if (error.code() != ErrorCode::no_connection || stopped() || Clock::now() + wait > deadline) throw;
      ++camera_failures_;
      pause(wait, stop_);
      wait = std::min(2 * wait, std::chrono::milliseconds(2000));
    }
}

bool Station::take_picture() {
  auto picture = take_patiently();
  if (!picture || stopped()) return false;
  taken_ = Clock::now();
  // A live camera reports when it exposed; the times of a recording are long past.
  if (camera_->info().live && picture->taken != std::chrono::system_clock::time_point{})
    taken_ -= std::clamp<Clock::duration>(std::chrono::system_clock::now() - picture->taken,
                                          Clock::duration(0), std::chrono::hours(1));
  {
    const std::lock_guard lock(picture_mutex_);
    picture_ = std::move(*picture);
  }
  number_ = store_ ? store_->next_number() : number_ + 1;
  left_behind_ = false;
  return true;
}

int64_t Station::age_ms() const {
  return std::chrono::duration_cast<std::chrono::milliseconds>(Clock::now() - taken_).count();
}

/// Where the robot stands with its question; nothing after a stop.
std::optional<RobotFromWorld> Station::frame_of_question() {
  if (file_.link.mode == LinkMode::push || dry_) return file_.robot_from_world;
  if (machine_) return machine_->wait_asked() ? std::optional(file_.robot_from_world) : std::nullopt;
  while (const auto question = link_->wait_next(number_)) {
    if (file_.mount == Mount::fixed) return file_.robot_from_world;
    if (question->robot_from_flange) return *question->robot_from_flange * file_.flange_from_world;
    link_->refuse("the camera is on the arm: ask with NEXT AT x y angle");
  }
  return std::nullopt;
}

std::optional<Report> Station::look() {
  if (stopped()) return std::nullopt;
  // The picture belongs to the pose it was asked with, for all of its parts.
  const std::optional<RobotFromWorld> frame = frame_of_question();
  if (!frame) return std::nullopt;
  if (auto left = take_left_behind()) return left;
  if (!control_->wait(stop_) || !take_picture()) return std::nullopt;
  busy_since_ = Clock::now().time_since_epoch().count();
  Report report = examine(picture_, *frame);
  busy_since_ = 0;
  if (!report.complete) return std::nullopt;  // stopped in the middle
  if (store_) {
    store_->add(
        {.number = number_, .source = file_.camera, .settings = settings_, .report = report_json(report)},
        taken_);
    state_changed();
  }
  return report;
}

void Station::farewell() {
  control_->end();
  if (link_) link_->farewell(number_);
}

std::chrono::milliseconds Station::busy_for() const {
  const Clock::rep since = busy_since_;
  if (since == 0) return {};
  return std::chrono::duration_cast<std::chrono::milliseconds>(Clock::now() -
                                                               Clock::time_point(Clock::duration(since)));
}

int64_t Station::dropped_triggers() const { return control_->counts().dropped; }

std::optional<Report> Station::next() {
  require_link();
  std::optional<Report> report;
  try {
    report = look();
  } catch (...) {
    farewell();
    throw;
  }
  if (!report) farewell();
  return report;
}

std::string Station::sent_text(const Report& report) const {
  using namespace text_protocol;
  if (file_.lines) return LineWriter(*file_.lines).write(sent_of(report, age_ms())) + file_.lines->line_end;
  if (file_.registers) return registers_text(*file_.registers, sent_of(report, age_ms()));
  const std::vector<text_protocol::Part> parts = parts_of(report);
  const Fields& fields = file_.link.fields;
  if (file_.link.mode == LinkMode::push)
    return encode_result({report.number, static_cast<int>(parts.size()), age_ms(), false}, parts, fields) +
           "\n";
  std::string lines;
  for (const text_protocol::Part& part : parts) lines += encode(StationLine(part), fields) + "\n";
  return lines + encode(StationLine(None{report.number})) + "\n";
}

Delivery Station::deliver(const Report& report) {
  require_link();
  if (dry_) fail_argument("station: this is a dry run; nothing is sent");
  Delivery delivery;
  const bool push = file_.link.mode == LinkMode::push;
  if (machine_) {
    const SentReport sent = sent_of(report, age_ms());
    delivery = push ? machine_->deliver(sent) : machine_->answer(sent);
  } else if (push) {
    delivery = link_->deliver(report.number, parts_of(report), age_ms(), left_behind_);
    if (delivery.acknowledged) {
      settle(report.number, delivery);  // a station that is killed now waits for DONE when it is back
      delivery.done = link_->wait_done(report.number);
      if (!delivery.done && !stopped()) delivery.why = "its DONE never came";
    }
  } else {
    delivery = link_->answer(report.number, parts_of(report));
    delivery.done = delivery.acknowledged;
  }
  if (delivery.acknowledged && !delivery.done) ++unfinished_;
  if (delivery.given_up) ++given_up_;
  settle(report.number, delivery);
  keep_picture(report);
  return delivery;
}

std::optional<Report> Station::step() {
  std::optional<Report> report = next();
  if (!report) return report;
  const Delivery delivery = deliver(*report);
  if (!delivery.acknowledged && !delivery.given_up && !stopped())
    throw Error(ErrorCode::no_connection, delivery.why);
  return report;
}

}  // namespace heron
