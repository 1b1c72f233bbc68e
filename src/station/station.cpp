#include "heron/station/station.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cmath>

#include "arrivals.hpp"
#include "control.hpp"
#include "heron/camera/pause.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/report_json.hpp"
#include "heron/link/line_link.hpp"
#include "loaded_set_up.hpp"
#include "station_marks.hpp"

namespace heron {
namespace {

using Clock = std::chrono::steady_clock;

text_protocol::Part part_of(const ReportedPart& p, uint64_t number, int index) {
  using text_protocol::Field;
  text_protocol::Part part{number, index, p.detection.target};
  const RobotPose& robot = *p.robot;
  part[Field::x] = robot.x_mm, part[Field::y] = robot.y_mm, part[Field::z] = robot.z_mm;
  part[Field::score] = p.detection.score;
  part[Field::sigma_x] = robot.sigma.x, part[Field::sigma_y] = robot.sigma.y;
  if (p.detection.has_angle || p.grasp) {
    part[Field::angle] = robot.angle.degrees();
    if (robot.sigma.angle) part[Field::sigma_angle] = robot.sigma.angle->degrees();
  }
  part[Field::ambiguous] = p.detection.ambiguous ? 1 : 0;
  part[Field::range_end] = p.detection.range_end.empty() ? 0 : 1;
  if (p.grasp) {
    part[Field::grasp] = p.grasp->number;
    part[Field::approach_z] = p.grasp->approach_z_mm, part[Field::retreat_z] = p.grasp->retreat_z_mm;
  }
  if (p.track && p.track->velocity)
    part[Field::velocity_x] = p.track->velocity->x, part[Field::velocity_y] = p.track->velocity->y;
  if (p.place) {
    part[Field::place_x] = p.place->x_mm, part[Field::place_y] = p.place->y_mm;
    part[Field::place_z] = p.place->z_mm, part[Field::place_angle] = p.place->angle.degrees();
  }
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

bool is_sent(const ReportedPart& p) { return p.withheld.empty() && p.robot; }

std::vector<text_protocol::Part> parts_of(const Report& report) {
  std::vector<text_protocol::Part> parts;
  for (const ReportedPart& p : report.parts) {
    if (!is_sent(p)) continue;
    parts.push_back(part_of(p, report.number, static_cast<int>(parts.size()) + 1));
    if (report.setup) parts.back()[text_protocol::Field::setup] = report.setup->number;
  }
  return parts;
}

text_protocol::Result head_of(const Report& report, int64_t age_ms, bool again) {
  const auto sent = std::count_if(report.parts.begin(), report.parts.end(), is_sent);
  return {report.number, static_cast<int>(sent), age_ms, report.setup ? report.setup->number : 0, again};
}

std::string registers_text(const RegisterMap& map, const SentReport& sent) {
  std::vector<RegisterValue> values = registers_of(map, sent);
  const std::vector<uint16_t> bits = valid_bits(values);
  std::sort(values.begin(), values.end(), [](const auto& a, const auto& b) { return a.at < b.at; });
  std::string text;
  const int from = map.controller ? map.controller->station_at : 0;
  if (map.controller)
    text = fmt::format("{:5} {:04x} bits of what is valid\n", from + map.controller->valid_at,
                       fmt::join(bits, " "));
  for (const RegisterValue& v : values)
    text += fmt::format("{:5} {:04x} {} {}\n", from + v.at, fmt::join(v.words, " "),
                        v.valid ? "valid" : "not valid", v.refused.empty() ? v.name : v.refused);
  return text;
}

}  // namespace

void Station::open_link() {
  open_store();
  if (file_.registers) fail_argument("station: the link is Modbus; open a ModbusLink and hand it over");
  if (file_.lines)
    machine_ = std::make_unique<LineLink>(file_.link, *file_.lines, stop_);
  else
    link_ = std::make_unique<StationLink>(file_.link, stop_);
}

void Station::open_link(std::unique_ptr<MachineLink> link) {
  open_store();
  machine_ = std::move(link);
  machine_->selected(control_->selected());  // an earlier run may have selected another one
}

void Station::begin_dry_run() {
  if (set_up()->settings().mount == Mount::arm)
    fail_argument(
        "station: the camera is on the arm, whose place comes with the robot's question; a dry run has no "
        "robot");
  dry_ = true;
  if (file_.trigger.by == Trigger::command)  // nobody can give one
    control_ = std::make_unique<StationControl>(TriggerSettings{}, control_->selected());
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

/// One failure of a camera is no end: a lost packet, an answer that came late.
std::optional<Picture> Station::take_patiently() {
  const auto deadline = Clock::now() + current_->settings().camera_timeout;
  std::chrono::milliseconds wait{100};
  for (;;) try {
      return camera_set_up().take();
    } catch (const Error& error) {
      if (error.code() != ErrorCode::no_connection || stopped() || Clock::now() + wait > deadline) throw;
      ++camera_failures_;
      pause(wait, stop_);
      wait = std::min(2 * wait, std::chrono::milliseconds(2000));
    }
}

/// With `setup`; what comes of it is looked at with it, whatever is selected meanwhile.
bool Station::take_picture(std::shared_ptr<const LoadedSetUp> setup) {
  current_ = std::move(setup);
  auto picture = take_patiently();
  if (!picture || stopped()) return false;
  taken_ = Clock::now();
  // A live camera reports when it exposed; the times of a recording are long past.
  if (camera().info().live && picture->taken != std::chrono::system_clock::time_point{})
    taken_ -= std::clamp<Clock::duration>(std::chrono::system_clock::now() - picture->taken,
                                          Clock::duration(0), std::chrono::hours(1));
  {
    const std::lock_guard lock(picture_mutex_);
    picture_ = std::move(*picture), picture_setup_ = current_;
  }
  number_ = store_ ? store_->next_number() : number_ + 1;
  left_behind_ = false;
  return true;
}

int64_t Station::age_ms() const {
  return std::chrono::duration_cast<std::chrono::milliseconds>(Clock::now() - taken_).count();
}

/// What was selected when the machine asked, and where it stood then; nothing after a stop.
std::optional<Station::Question> Station::wait_asked() {
  if (machine_) {
    if (!machine_->wait_asked()) return std::nullopt;
    auto setup = set_up();
    return Question{setup, setup->settings().robot_from_world};
  }
  while (const auto question = link_->wait_next(number_)) {
    auto setup = set_up();
    const SetUp& settings = setup->settings();
    if (settings.mount == Mount::fixed) return Question{setup, settings.robot_from_world};
    if (question->robot_from_flange)
      return Question{setup, *question->robot_from_flange * settings.flange_from_world};
    link_->refuse("the camera is on the arm: ask with NEXT AT x y angle");
  }
  return std::nullopt;
}

std::optional<Report> Station::look() {
  if (stopped()) return std::nullopt;
  // The picture belongs to the pose it was asked with, for all of its parts.
  std::optional<Question> question;
  if (file_.link.mode == LinkMode::ask && !dry_ && !(question = wait_asked())) return std::nullopt;
  if (auto left = take_left_behind()) return left;
  std::optional<Report> report;
  do {
    const auto selected = control_->wait(stop_);
    if (!selected) return std::nullopt;
    report = look_once(question, *selected);
    if (!report) return std::nullopt;
  } while (arrivals_ && !has_arrived(*report));
  watch_drift(*report);
  if (store_) {
    store_->add({.number = number_,
                 .source = current_->settings().camera,
                 .settings = current_->hash(),
                 .report = report_json(*report)},
                taken_);
    state_changed();
  }
  return report;
}

/// What one picture holds; nothing after a stop and at a recording's end.
std::optional<Report> Station::look_once(const std::optional<Question>& question, int selected) {
  Question q = question.value_or(Question{});
  if (!question) q.setup = set_up(selected), q.robot_from_world = q.setup->settings().robot_from_world;
  if (!take_picture(q.setup)) return std::nullopt;
  busy_since_ = Clock::now().time_since_epoch().count();
  const auto begun = Clock::now();
  const CarriedMapping* carried = this->carried();
  const double took_ms = std::chrono::duration<double, std::milli>(Clock::now() - begun).count();
  Report report = examined(*current_, picture_, q.robot_from_world, carried);
  report.elapsed_ms += took_ms;
  busy_since_ = 0;
  if (!report.complete) return std::nullopt;  // stopped in the middle
  return report;
}

/// A picture without an arrival gets no number.
bool Station::has_arrived(Report& report) {
  std::optional<double> at_s;  // a recording may be without times
  if (camera().info().live)
    at_s = std::chrono::duration<double>(taken_.time_since_epoch()).count();
  else if (picture_.taken != std::chrono::system_clock::time_point{})
    at_s = std::chrono::duration<double>(picture_.taken.time_since_epoch()).count();
  if (arrivals_->mark(report, at_s)) return true;
  if (!store_) --number_;
  return false;
}

Report Station::examined(const LoadedSetUp& setup, const Picture& picture,
                         const RobotFromWorld& robot_from_world, const CarriedMapping* carried) const {
  Report report = setup.examine(picture, robot_from_world, stop_, carried);
  for (ReportedPart& part : report.parts)
    if (part.withheld.empty()) part.withheld = withheld(part, file_.withhold);
  report.number = number_;
  return report;
}

void Station::farewell() {
  for (const auto& [setup, drift] : drift_) keep_learned(setup);
  control_->end();
  if (link_) link_->farewell(number_);
}

std::chrono::milliseconds Station::busy_for() const {
  const Clock::rep since = busy_since_;
  if (since == 0) return {};
  return std::chrono::duration_cast<std::chrono::milliseconds>(Clock::now() -
                                                               Clock::time_point(Clock::duration(since)));
}

int64_t Station::dropped_triggers() const { return control_->dropped(); }

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
    return encode_result(head_of(report, age_ms(), false), parts, fields) + "\n";
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
    delivery = link_->deliver(head_of(report, age_ms(), left_behind_), parts_of(report));
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
