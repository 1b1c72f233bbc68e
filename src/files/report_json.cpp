#include "heron/files/report_json.hpp"

#include <nlohmann/json.hpp>

namespace heron {
namespace {

using Json = nlohmann::ordered_json;

Json json_of(const std::optional<double>& value) { return value ? Json(*value) : Json(nullptr); }
Json json_of(const std::optional<Angle>& angle) { return angle ? Json(angle->degrees()) : Json(nullptr); }

template <class Frame>
Json json_of(const MeasuredPose<Frame>& p, bool has_angle) {
  return {
      {"x", p.x_mm},
      {"y", p.y_mm},
      {"z", p.z_mm},
      {"angle", has_angle ? Json(p.angle.degrees()) : Json(nullptr)},
      {"sigma", {{"x", json_of(p.sigma.x)}, {"y", json_of(p.sigma.y)}, {"angle", json_of(p.sigma.angle)}}}};
}

Json json_of(const ReportedPart& part) {
  const Detection& s = part.detection;
  Json j{{"target", s.target},
         {"x", s.x},
         {"y", s.y},
         {"angle", s.has_angle ? Json(s.angle.degrees()) : Json(nullptr)},
         {"scale", s.scale},
         {"score", s.score},
         {"contrast", s.contrast},
         {"sigma",
          {{"x", json_of(s.sigma.x)},
           {"y", json_of(s.sigma.y)},
           {"angle", json_of(s.sigma.angle)},
           {"scale", json_of(s.sigma.scale)}}},
         {"range_end", s.range_end}};
  if (s.inverted) j["inverted"] = true;
  for (const Measurement& f : s.measurements) {
    const size_t dot = f.name.find('.');
    if (dot == std::string::npos)
      j[f.name] = f.value;
    else
      j[f.name.substr(0, dot)][f.name.substr(dot + 1)] = f.value;
  }
  for (const Defect& f : s.defects)
    j["defects"].push_back({{"what", f.what},
                            {"x", f.x},
                            {"y", f.y},
                            {"area", f.area},
                            {"depth", f.depth},
                            {"length", f.length}});
  for (size_t i = 0; i < s.points.size(); ++i) {
    const NamedPoint& p = s.points[i];
    Json point{
        {"name", p.name}, {"x", p.at.x}, {"y", p.at.y}, {"sigma", {{"x", p.sigma.x}, {"y", p.sigma.y}}}};
    if (i < part.points_mm.size()) point["world"] = {{"x", part.points_mm[i].x}, {"y", part.points_mm[i].y}};
    j["points"].push_back(std::move(point));
  }
  for (size_t i = 0; i < s.lengths.size(); ++i) {
    const MeasuredLength& l = s.lengths[i];
    Json span{{"name", l.name},
              {"length", distance(l.from, l.to)},
              {"from", {l.from.x, l.from.y}},
              {"to", {l.to.x, l.to.y}}};
    if (i < part.lengths_mm.size()) span["length_mm"] = part.lengths_mm[i];
    j["lengths"].push_back(std::move(span));
  }
  if (s.ambiguous)
    j["ambiguous"] = {{"x", s.ambiguous->x},
                      {"y", s.ambiguous->y},
                      {"angle", s.ambiguous->angle.degrees()},
                      {"scale", s.ambiguous->scale},
                      {"score", s.ambiguous->score}};
  if (part.distance) {
    const WidthDistance& d = *part.distance;
    j["distance"] = {{"axis", d.along_axis_mm},
                     {"ray", d.along_ray_mm},
                     {"bearing", d.bearing.degrees()},
                     {"elevation", d.elevation.degrees()},
                     {"sigma", d.sigma_ray_mm}};
  }
  if (part.world) j["world"] = json_of(*part.world, s.has_angle);
  if (part.robot) j["robot"] = json_of(*part.robot, s.has_angle || part.grasp);
  if (part.grasp)
    j["grasp"] = {{"number", part.grasp->number},
                  {"approach_z", json_of(part.grasp->approach_z_mm)},
                  {"retreat_z", json_of(part.grasp->retreat_z_mm)}};
  if (const auto& t = part.track) {
    j["track"] = {{"identity", t->identity}};
    if (t->told_in > 0) j["track"]["told_in"] = t->told_in;
    if (t->velocity) j["track"]["velocity"] = {{"x", t->velocity->x}, {"y", t->velocity->y}};
    if (t->velocity && t->sigma) j["track"]["velocity"]["sigma"] = {{"x", t->sigma->x}, {"y", t->sigma->y}};
  }
  if (part.place) j["place"] = json_of(*part.place, true);
  if (!part.withheld.empty()) j["withheld"] = part.withheld;
  if (part.verdict) j["verdict"] = word_of(*part.verdict);
  return j;
}

Json json_of(const Miss& m) {
  Json reasons = Json::array();
  for (const MissReason& l : m.reasons)
    reasons.push_back({{"name", l.name}, {"value", l.value}, {"needed", l.needed}, {"sigma", l.sigma}});
  return {{"x", m.x},
          {"y", m.y},
          {"angle", m.has_angle ? Json(m.angle.degrees()) : Json(nullptr)},
          {"scale", m.scale},
          {"score", m.score},
          {"limits", reasons}};
}

Json json_of(const Reading& r) {
  Json j{{"name", r.gauge},
         {"kind", r.kind},
         {"part", r.part ? Json(*r.part) : Json(nullptr)},
         {"quantity", r.quantity},
         {"value", json_of(r.value)},
         {"sigma", json_of(r.sigma)},
         {"unit", r.unit},
         {"state", word_of(r.state)},
         {"limits", {{"min", json_of(r.limits.min)}, {"max", json_of(r.limits.max)}}}};
  if (r.fixed) j["fixed"] = true;
  if (r.undecided) j["undecided"] = true;
  if (!r.reason.empty()) j["reason"] = r.reason;
  if (r.kind == std::string("crop"))
    j["text"] = r.text.empty() ? Json(nullptr) : Json(r.text), j["confidence"] = json_of(r.confidence);
  for (const GaugeValue& v : r.values)
    j["values"][v.name] = {{"value", v.value}, {"sigma", json_of(v.sigma)}, {"unit", v.unit}};
  for (const GaugeItem& i : r.items)
    j["items"].push_back({{"x", i.at.x}, {"y", i.at.y}, {"value", i.value}, {"counted", i.counted}});
  return j;
}

// A file name may hold bytes that are no UTF-8; the line must stay valid JSON all the same.
std::string line(const Json& j) { return j.dump(-1, ' ', false, Json::error_handler_t::replace); }

Json json_of(const MarksMotion& m) {
  Json j{{"shift_mm", {m.shift_mm.x, m.shift_mm.y, m.lift_mm}},
         {"turn", m.turn.degrees()},
         {"tilt", m.tilt.degrees()},
         {"sigma",
          {{"shift_mm", {m.sigma_shift_mm, m.sigma_shift_mm, m.sigma_lift_mm}},
           {"turn", m.sigma_turn.degrees()},
           {"tilt", m.sigma_tilt.degrees()}}},
         {"marks", m.marks}};
  if (m.earlier) j["earlier"] = true;
  return j;
}

}  // namespace

std::string report_json(const Report& report) {
  Json j{{"picture", report.picture},
         {"elapsed_ms", report.elapsed_ms},
         {"found", Json::array()},
         {"misses", Json::array()}};
  if (report.number > 0) j["number"] = report.number;
  if (report.setup) j["setup"] = {{"number", report.setup->number}, {"name", report.setup->name}};
  if (!report.complete) j["complete"] = false;
  for (const auto& [name, value] : report.watched) j["watched"][name] = value;
  for (const DriftWarning& w : report.drift)
    j["drift"].push_back({{"quantity", w.quantity},
                          {"value", w.value},
                          {"usual", w.usual},
                          {"limit", w.limit},
                          {"cause", w.cause}});
  if (report.marks) j["marks"] = json_of(*report.marks);
  if (!report.unusable.empty()) j["unusable"] = report.unusable;
  for (const ReportedPart& part : report.parts) j["found"].push_back(json_of(part));
  for (const Miss& miss : report.misses) j["misses"].push_back(json_of(miss));
  for (const ReportedPart& nest : report.nests) j["nests"].push_back(json_of(nest));
  for (const Reading& reading : report.readings) j["readings"].push_back(json_of(reading));
  if (report.verdict) j["verdict"] = word_of(*report.verdict);
  return line(j);
}

std::string part_json(const ReportedPart& part) { return line(json_of(part)); }

std::string world_json(const UserPose& pose) { return line(json_of(pose, true)); }

}  // namespace heron
