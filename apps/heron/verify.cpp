#include <fmt/format.h>

#include <cmath>
#include <map>
#include <nlohmann/json.hpp>
#include <sstream>

#include "commands.hpp"
#include "heron/base/error.hpp"
#include "heron/calibrate/touch_check.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/files/csv_file.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/files/report_json.hpp"
#include "heron/report/field.hpp"
#include "heron/station/station_file.hpp"
#include "options.hpp"

namespace heron::tool {
namespace {

using Json = nlohmann::ordered_json;

struct VerifyOptions {
  std::string reports, touched, station;
  double touch_sigma = 0.05;
  int setup = 0;
  bool json = false;
};

/// Which part a row of the file means.
struct TouchedRow {
  uint64_t result = 0;
  size_t part = 0;
  std::string name;
};

std::string part_json_of(const Report& report) {
  std::string text;
  for (const ReportedPart& part : report.parts) text += part_json(part);
  return text;
}

/// Reports by their number; those of pictures without one, by their line.
std::map<uint64_t, Report> load_reports(const std::string& path) {
  std::map<uint64_t, Report> reports;
  std::istringstream lines(read_file(path));
  uint64_t at = 0;
  for (std::string line; std::getline(lines, line);) {
    ++at;
    if (line.find_first_not_of(" \t\r") == std::string::npos) continue;
    const Json parsed = Json::parse(line, nullptr, false);
    if (parsed.is_object() && !parsed.contains("picture")) continue;  // what became of a result
    Report report = report_of_json(line, fmt::format("{}:{}", path, at));
    const uint64_t number = report.number > 0 ? report.number : at;
    const auto [there, added] = reports.try_emplace(number, report);  // one that was sent again is the same
    if (!added && part_json_of(there->second) != part_json_of(report))
      fail_file({.file = path, .line = static_cast<int>(at)},
                fmt::format("result {} stands here a second time with other parts, of another run; leave the "
                            "lines of one run",
                            number));
  }
  if (reports.empty()) fail_file({.file = path}, "holds no report");
  return reports;
}

uint64_t whole_in(const VerifyOptions& o, double value, const char* column) {
  if (!(value >= 1 && value < 1e15 && value == std::floor(value)))
    fail_file({.file = o.touched}, fmt::format("{} {:g} is no whole number from 1", column, value));
  return static_cast<uint64_t>(value);
}

std::vector<TouchedPart> touched_parts(const VerifyOptions& o, std::vector<TouchedRow>& rows) {
  const std::map<uint64_t, Report> reports = load_reports(o.reports);
  std::vector<TouchedPart> parts;
  for (const auto& row : load_csv(o.touched, {"result", "part", "x", "y"})) {
    const uint64_t result = whole_in(o, row[0], "result"), part = whole_in(o, row[1], "part");
    const auto report = reports.find(result);
    if (report == reports.end())
      fail_file({.file = o.touched}, fmt::format("result {} is not in {}", result, o.reports));
    const std::vector<size_t> sent = sent_of(report->second, 0).parts;
    if (part > sent.size())
      fail_file({.file = o.touched},
                fmt::format("result {} has no part {}: {} with a place in the robot's frame were sent",
                            result, part, sent.size()));
    const ReportedPart& p = report->second.parts[sent[part - 1]];
    const auto& sigma = p.robot->sigma;
    TouchedPart touched{{p.robot->x_mm, p.robot->y_mm, p.robot->angle.turn()}, {row[2], row[3]}};
    if (sigma.x && sigma.y) touched.sigma = std::max(*sigma.x, *sigma.y);
    parts.push_back(touched), rows.push_back({result, part, p.detection.target});
  }
  return parts;
}

/// Shift and turn put into the frame, about the parts' middle.
Pose2 corrected(const Pose2& frame, const TouchCheck& check) {
  const Point2 shift = check.shift.seen ? check.shift.value : Point2{};
  const Angle turn = check.turn.seen ? degrees(check.turn.value) : Angle{};
  const Point2 middle = check.middle;
  const Pose2 about = Pose2{middle.x + shift.x, middle.y + shift.y, turn} * Pose2{-middle.x, -middle.y, {}};
  return about * frame;
}

const SetUp& set_up_of(const VerifyOptions& o, const StationFile& station) {
  if (station.setups.empty()) return station.setup;
  for (const SetUp& s : station.setups)
    if (s.number == o.setup) return s;
  fail_argument(
      fmt::format("verify: {} has several set-ups; say with --setup which one was touched", o.station));
}

/// The line of the station file with the frame that fits, and what scale means in height.
std::string station_words(const VerifyOptions& o, const TouchCheck& check) {
  if (o.station.empty()) return {};
  const StationFile station = load_station(o.station);
  const SetUp& setup = set_up_of(o, station);
  std::string words;
  if (check.scale.seen && !setup.mapping.empty())
    if (const MappingRecord record = load_mapping(setup.mapping);
        const auto* camera = record.mapping.camera())
      words +=
          fmt::format("scale as a height: the parts lie {:+.2f} mm above what the mapping takes them for\n",
                      -check.scale.value * camera->camera().camera_from_world.inverse().position.z());
  if (setup.mount != Mount::fixed || (!check.shift.seen && !check.turn.seen)) return words;
  const Pose2 frame = corrected(setup.robot_from_world.plain(), check);
  words += fmt::format("with shift and turn put right, in {}:\n  {} = [{:.5f}, {:.5f}, {:.6f}]\n", o.station,
                       setup.from_axes ? "robot_from_axes" : "robot_from_board", frame.x, frame.y,
                       frame.angle.degrees());
  return words;
}

void print_verified(const TouchCheck& check, const std::vector<TouchedRow>& rows, const VerifyOptions& o) {
  fmt::print(
      "{} parts touched: {:.3f} mm rms from where the hand was sent; finding and touching alone make it "
      "{:.3f} mm\n",
      rows.size(), check.rms_mm, check.expected_mm);
  fmt::print("  {:<7} {:>9} {:>9}  {:<20} {:>8} {:>9}  {}\n", "cause", "X", "Y", "unit", "sigma", "alone mm",
             "what to do");
  const auto line = [](const char* cause, const std::string& value, const char* unit, double sigma,
                       double rms, bool seen, const char* advice) {
    fmt::print("  {:<7} {:<19}  {:<20} {:>8.2g} {:>9.3f}  {}\n", cause, value, unit, sigma, rms,
               seen ? advice : "nothing: chance explains it");
  };
  const auto pair = [](Point2 p) { return fmt::format("{:>9.3f} {:>9.3f}", p.x, p.y); };
  line("shift", pair(check.shift.value), "mm, robot's frame", check.shift.sigma, check.shift.rms_mm,
       check.shift.seen, "correct the frame");
  line("turn", fmt::format("{:>9.4f}", check.turn.value), "degrees", check.turn.sigma, check.turn.rms_mm,
       check.turn.seen, "correct the frame");
  line("scale", fmt::format("{:>9.5f}", check.scale.value), "mm a mm", check.scale.sigma, check.scale.rms_mm,
       check.scale.seen, "the parts' height, or the mapping's pitch, is another");
  if (check.hand)
    line("hand", pair(check.hand->value), "mm, hand's own frame", check.hand->sigma, check.hand->rms_mm,
         check.hand->seen, "correct the tool's centre, or the grasp, by it");
  else
    fmt::print("  hand    not told apart from shift: touch six parts or more, turned differently\n");
  fmt::print("  {:<7} {:>9.3f} mm rms; {}\n", "rest", check.left_mm,
             check.rest_seen
                 ? "more than finding and touching err: a bent mapping, or a --touch-sigma that is "
                   "too small"
                 : "as finding and touching err");
  for (const size_t i : check.wrong)
    fmt::print(
        "  left out: part {} of result {} ({}), {:.3f} mm from where the others put it; touch it again\n",
        rows[i].part, rows[i].result, rows[i].name, norm(check.rest[i]));
  fmt::print("{}", station_words(o, check));
}

Json json_of(const ErrorCause<Point2>& c) {
  return {{"x", c.value.x}, {"y", c.value.y}, {"sigma", c.sigma}, {"rms_mm", c.rms_mm}, {"seen", c.seen}};
}
Json json_of(const ErrorCause<double>& c) {
  return {{"value", c.value}, {"sigma", c.sigma}, {"rms_mm", c.rms_mm}, {"seen", c.seen}};
}

void print_verified_json(const TouchCheck& check, const std::vector<TouchedRow>& rows) {
  Json j{{"parts", rows.size()},
         {"rms_mm", check.rms_mm},
         {"expected_mm", check.expected_mm},
         {"middle", {check.middle.x, check.middle.y}},
         {"shift", json_of(check.shift)},
         {"turn", json_of(check.turn)},
         {"scale", json_of(check.scale)},
         {"hand", check.hand ? json_of(*check.hand) : Json(nullptr)},
         {"rest_mm", check.left_mm},
         {"rest_seen", check.rest_seen},
         {"wrong", Json::array()},
         {"rest", Json::array()}};
  for (const size_t i : check.wrong)
    j["wrong"].push_back({{"result", rows[i].result}, {"part", rows[i].part}});
  for (size_t i = 0; i < rows.size(); ++i)
    j["rest"].push_back(
        {{"result", rows[i].result}, {"part", rows[i].part}, {"x", check.rest[i].x}, {"y", check.rest[i].y}});
  fmt::print("{}\n", j.dump());
}

int verify(const VerifyOptions& o) {
  std::vector<TouchedRow> rows;
  const std::vector<TouchedPart> parts = touched_parts(o, rows);
  const TouchCheck check = check_touches(parts, o.touch_sigma);
  if (o.json)
    print_verified_json(check, rows);
  else
    print_verified(check, rows, o);
  const bool good = !check.shift.seen && !check.turn.seen && !check.scale.seen &&
                    !(check.hand && check.hand->seen) && !check.rest_seen && check.wrong.empty();
  return good ? 0 : 1;
}

}  // namespace

void add_verify(CLI::App& app, Action& action) {
  auto o = std::make_shared<VerifyOptions>();
  CLI::App* c = app.add_subcommand(
      "verify", "Splits how far the robot arrives from its parts by cause, from parts that it touched");
  c->add_option("reports", o->reports, "what was sent: a file of `run --reports` or `find --json`")
      ->required();
  c->add_option("--touched", o->touched,
                "CSV with result, part, x, y: where the robot stood when it touched the part, by the numbers "
                "of RESULT and PART")
      ->required();
  c->add_option("--touch-sigma", o->touch_sigma, "how exactly it was touched, millimetres")
      ->capture_default_str();
  c->add_option("--station", o->station, "station file; prints the frame that puts shift and turn right");
  c->add_option("--setup", o->setup, "number of its set-up, where it has several");
  c->add_flag("--json", o->json, "prints one JSON object");
  c->footer(
      "Example: heron verify reports.jsonl --touched arrived.csv --station station.toml\nExit status 1 when "
      "a "
      "cause stands out, or a part does not fit the others.");
  c->callback([o, &action] { action = [o] { return verify(*o); }; });
}

}  // namespace heron::tool
