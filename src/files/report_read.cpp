#include <fmt/format.h>

#include <nlohmann/json.hpp>
#include <set>

#include "heron/base/error.hpp"
#include "heron/files/report_json.hpp"

namespace heron {
namespace {

using ReadJson = nlohmann::ordered_json;

/// Missing and null are the same: not known.
std::optional<double> number_in(const ReadJson& j, const char* key) {
  const auto at = j.find(key);
  if (at == j.end() || at->is_null()) return std::nullopt;
  return at->get<double>();
}
std::optional<Angle> angle_in(const ReadJson& j, const char* key) {
  const auto value = number_in(j, key);
  return value ? std::optional(degrees(*value)) : std::nullopt;
}
std::string text_in(const ReadJson& j, const char* key) {
  const auto at = j.find(key);
  return at == j.end() || at->is_null() ? std::string() : at->get<std::string>();
}
bool flag_in(const ReadJson& j, const char* key) { return j.contains(key) && j[key].get<bool>(); }

std::optional<Verdict> verdict_in(const ReadJson& j, const char* key) {
  const std::string word = text_in(j, key);
  if (word.empty()) return std::nullopt;
  for (size_t i = 0; i < std::size(verdict_words); ++i)
    if (word == verdict_words[i]) return static_cast<Verdict>(i);
  throw std::invalid_argument(fmt::format("'{}' is no verdict", word));
}

template <class Measured>
std::optional<Measured> pose_in(const ReadJson& j, const char* key) {
  if (!j.contains(key)) return std::nullopt;
  const ReadJson& p = j[key];
  const ReadJson& sigma = p.at("sigma");
  Measured pose;
  pose.x_mm = p.at("x"), pose.y_mm = p.at("y"), pose.z_mm = p.at("z");
  pose.angle = WorldAngle(angle_in(p, "angle").value_or(Angle{}));
  pose.sigma.x = number_in(sigma, "x"), pose.sigma.y = number_in(sigma, "y");
  pose.sigma.angle = angle_in(sigma, "angle");
  return pose;
}

/// Names of a part that are not its kind's measurements.
const std::set<std::string> own_names{"target",   "x",        "y",         "angle",    "scale",   "score",
                                      "contrast", "sigma",    "range_end", "inverted", "defects", "points",
                                      "lengths",  "withheld", "ambiguous", "distance", "world",   "robot",
                                      "verdict",  "grasp",    "place",     "track"};

void read_measurements(const ReadJson& j, Detection& s) {
  for (const auto& [key, value] : j.items()) {
    if (own_names.contains(key)) continue;
    if (value.is_object())
      for (const auto& [name, number] : value.items())
        s.measurements.push_back({fmt::format("{}.{}", key, name), number.get<double>()});
    else
      s.measurements.push_back({key, value.get<double>()});
  }
}

void read_points(const ReadJson& j, ReportedPart& part) {
  if (j.contains("points"))
    for (const ReadJson& p : j["points"]) {
      const ReadJson& sigma = p.at("sigma");
      part.detection.points.push_back({p.at("name"), {p.at("x"), p.at("y")}, {sigma.at("x"), sigma.at("y")}});
      if (p.contains("world")) part.points_mm.push_back(UserPoint(p["world"].at("x"), p["world"].at("y")));
    }
  if (j.contains("lengths"))
    for (const ReadJson& l : j["lengths"]) {
      const ReadJson &from = l.at("from"), &to = l.at("to");
      part.detection.lengths.push_back({l.at("name"), {from.at(0), from.at(1)}, {to.at(0), to.at(1)}});
      if (l.contains("length_mm")) part.lengths_mm.push_back(l["length_mm"]);
    }
}

Point2 point_of_json(const ReadJson& j) { return {j.at("x"), j.at("y")}; }

PartTrack track_of_json(const ReadJson& j) {
  PartTrack track{.identity = j.at("identity")};
  if (j.contains("told_in")) track.told_in = j["told_in"];
  if (!j.contains("velocity")) return track;
  const ReadJson& velocity = j["velocity"];
  track.velocity = point_of_json(velocity);
  if (velocity.contains("sigma")) track.sigma = point_of_json(velocity["sigma"]);
  return track;
}

ReportedPart part_of_json(const ReadJson& j) {
  ReportedPart part;
  Detection& s = part.detection;
  s.target = j.at("target");
  s.x = j.at("x"), s.y = j.at("y"), s.scale = j.at("scale"), s.score = j.at("score");
  s.has_angle = !j.at("angle").is_null();
  s.angle = angle_in(j, "angle").value_or(Angle{});
  s.contrast = j.at("contrast");
  const ReadJson& sigma = j.at("sigma");
  s.sigma.x = number_in(sigma, "x"), s.sigma.y = number_in(sigma, "y");
  s.sigma.angle = angle_in(sigma, "angle"), s.sigma.scale = number_in(sigma, "scale");
  s.range_end = j.at("range_end").get<std::vector<std::string>>();
  s.inverted = flag_in(j, "inverted");
  if (j.contains("ambiguous")) {
    const ReadJson& a = j["ambiguous"];
    s.ambiguous = OtherPose{a.at("x"), a.at("y"), degrees(a.at("angle")), a.at("scale"), a.at("score")};
  }
  if (j.contains("defects"))
    for (const ReadJson& d : j["defects"])
      s.defects.push_back({d.at("what"), d.at("x"), d.at("y"), d.at("area"), d.at("depth"), d.at("length")});
  read_measurements(j, s);
  read_points(j, part);
  if (j.contains("distance")) {
    const ReadJson& d = j["distance"];
    WidthDistance distance;
    distance.along_axis_mm = d.at("axis"), distance.along_ray_mm = d.at("ray");
    distance.bearing = degrees(d.at("bearing")), distance.elevation = degrees(d.at("elevation"));
    distance.sigma_ray_mm = d.at("sigma");
    part.distance = distance;
  }
  part.world = pose_in<UserPose>(j, "world"), part.robot = pose_in<RobotPose>(j, "robot");
  if (j.contains("grasp")) {
    const ReadJson& g = j["grasp"];
    part.grasp = {g.at("number"), number_in(g, "approach_z"), number_in(g, "retreat_z"), {}};
  }
  if (j.contains("track")) part.track = track_of_json(j["track"]);
  part.place = pose_in<RobotPose>(j, "place");
  part.withheld = text_in(j, "withheld");
  part.verdict = verdict_in(j, "verdict");
  return part;
}

Miss miss_of_json(const ReadJson& j) {
  Miss miss{.x = j.at("x"), .y = j.at("y"), .scale = j.at("scale"), .score = j.at("score")};
  miss.has_angle = !j.at("angle").is_null();
  miss.angle = angle_in(j, "angle").value_or(Angle{});
  for (const ReadJson& l : j.at("limits"))
    miss.reasons.push_back({l.at("name"), l.at("value"), l.at("needed"), l.at("sigma")});
  return miss;
}

Reading reading_of_json(const ReadJson& j) {
  Reading r{.gauge = j.at("name"), .kind = j.at("kind"), .quantity = j.at("quantity")};
  if (!j.at("part").is_null()) r.part = j["part"].get<size_t>();
  r.fixed = flag_in(j, "fixed"), r.undecided = flag_in(j, "undecided");
  r.value = number_in(j, "value"), r.sigma = number_in(j, "sigma");
  r.unit = j.at("unit");
  r.limits = {number_in(j.at("limits"), "min"), number_in(j.at("limits"), "max")};
  r.state = verdict_in(j, "state").value();
  r.reason = text_in(j, "reason"), r.text = text_in(j, "text");
  r.confidence = number_in(j, "confidence");
  if (j.contains("values"))
    for (const auto& [name, v] : j["values"].items())
      r.values.push_back({name, v.at("value"), number_in(v, "sigma"), v.at("unit")});
  if (j.contains("items"))
    for (const ReadJson& i : j["items"])
      r.items.push_back({{i.at("x"), i.at("y")}, i.at("value"), i.at("counted")});
  return r;
}

MarksMotion marks_of_json(const ReadJson& j) {
  MarksMotion m;
  const ReadJson& shift = j.at("shift_mm");
  m.shift_mm = {shift.at(0), shift.at(1)}, m.lift_mm = shift.at(2);
  m.turn = degrees(j.at("turn")), m.tilt = degrees(j.at("tilt"));
  const ReadJson& sigma = j.at("sigma");
  m.sigma_shift_mm = sigma.at("shift_mm").at(0), m.sigma_lift_mm = sigma.at("shift_mm").at(2);
  m.sigma_turn = degrees(sigma.at("turn")), m.sigma_tilt = degrees(sigma.at("tilt"));
  m.marks = j.at("marks").get<std::vector<int>>();
  m.earlier = j.value("earlier", false);
  return m;
}

}  // namespace

Report report_of_json(const std::string& line, const std::string& from) try {
  const ReadJson j = ReadJson::parse(line);
  Report report;
  report.picture = j.at("picture"), report.elapsed_ms = j.at("elapsed_ms");
  if (j.contains("number")) report.number = j["number"];
  if (j.contains("setup")) report.setup = {j["setup"].at("number"), j["setup"].at("name")};
  if (j.contains("watched"))
    for (const auto& [name, value] : j["watched"].items()) report.watched[name] = value;
  if (j.contains("drift"))
    for (const ReadJson& w : j["drift"])
      report.drift.push_back({w.at("quantity"), w.at("value"), w.at("usual"), w.at("limit"), w.at("cause")});
  if (j.contains("marks")) report.marks = marks_of_json(j["marks"]);
  report.unusable = text_in(j, "unusable");
  if (j.contains("complete")) report.complete = j["complete"];
  for (const ReadJson& part : j.at("found")) report.parts.push_back(part_of_json(part));
  for (const ReadJson& miss : j.at("misses")) report.misses.push_back(miss_of_json(miss));
  if (j.contains("nests"))
    for (const ReadJson& nest : j["nests"]) report.nests.push_back(part_of_json(nest));
  if (j.contains("readings"))
    for (const ReadJson& r : j["readings"]) report.readings.push_back(reading_of_json(r));
  report.verdict = verdict_in(j, "verdict");
  return report;
} catch (const Error&) {
  throw;
} catch (const std::exception& error) {
  fail_file({.file = from}, fmt::format("holds no report as it is written here: {}", error.what()));
}

}  // namespace heron
