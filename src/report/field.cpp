#include "heron/report/field.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "heron/locate/names.hpp"

namespace heron {
namespace {

template <class T>
FieldValue known(const std::optional<T>& value) {
  if (!value) return {};
  return static_cast<double>(*value);
}
FieldValue known(const std::optional<Angle>& angle) {
  if (!angle) return {};
  return angle->degrees();
}
FieldValue known(const std::optional<Verdict>& verdict) {
  if (!verdict) return {};
  return std::string(word_of(*verdict));
}
FieldValue yes(bool is) { return is ? 1.0 : 0.0; }

/// A field's entry and how its value is read.
template <class... From>
struct Row {
  FieldInfo info;
  FieldValue (*value)(From...);
};

using Part = const ReportedPart&;
const std::vector<Row<Part>>& part_rows() {
  static const std::vector<Row<Part>> rows{
      {{"name", "name of its target", false, true}, [](Part p) -> FieldValue { return p.detection.target; }},
      {{"x", "mm in the robot's frame"}, [](Part p) -> FieldValue { return p.robot->x_mm; }},
      {{"y", "mm in the robot's frame"}, [](Part p) -> FieldValue { return p.robot->y_mm; }},
      {{"z", "mm in the robot's frame"}, [](Part p) -> FieldValue { return p.robot->z_mm; }},
      {{"angle", "degrees in the robot's frame, from +X towards +Y"},
       [](Part p) -> FieldValue {
         if (!p.detection.has_angle && !p.grasp) return {};
         return p.robot->angle.degrees();
       }},
      {{"grasp", "number of the grasp that was chosen, from 1", true},
       [](Part p) -> FieldValue {
         return p.grasp ? FieldValue(static_cast<double>(p.grasp->number)) : FieldValue();
       }},
      {{"approach_z", "mm in the robot's frame, where the hand comes from"},
       [](Part p) { return p.grasp ? known(p.grasp->approach_z_mm) : FieldValue(); }},
      {{"retreat_z", "mm in the robot's frame, where the hand goes to"},
       [](Part p) { return p.grasp ? known(p.grasp->retreat_z_mm) : FieldValue(); }},
      {{"place_x", "mm in the robot's frame, of the hand where it puts the part down"},
       [](Part p) { return p.place ? FieldValue(p.place->x_mm) : FieldValue(); }},
      {{"place_y", "mm in the robot's frame"},
       [](Part p) { return p.place ? FieldValue(p.place->y_mm) : FieldValue(); }},
      {{"place_z", "mm in the robot's frame"},
       [](Part p) { return p.place ? FieldValue(p.place->z_mm) : FieldValue(); }},
      {{"place_angle", "degrees in the robot's frame"},
       [](Part p) { return p.place ? FieldValue(p.place->angle.degrees()) : FieldValue(); }},
      {{"track", "who it is where the station follows its parts, from 1", true},
       [](Part p) -> FieldValue {
         return p.track ? FieldValue(static_cast<double>(p.track->identity)) : FieldValue();
       }},
      {{"velocity_x", "mm a second in the robot's frame"},
       [](Part p) -> FieldValue {
         return p.track && p.track->velocity ? FieldValue(p.track->velocity->x) : FieldValue();
       }},
      {{"velocity_y", "mm a second in the robot's frame"},
       [](Part p) -> FieldValue {
         return p.track && p.track->velocity ? FieldValue(p.track->velocity->y) : FieldValue();
       }},
      {{"sigma_x", "mm, standard uncertainty"}, [](Part p) { return known(p.robot->sigma.x); }},
      {{"sigma_y", "mm, standard uncertainty"}, [](Part p) { return known(p.robot->sigma.y); }},
      {{"sigma_angle", "degrees, standard uncertainty"},
       [](Part p) { return p.detection.has_angle ? known(p.robot->sigma.angle) : FieldValue{}; }},
      {{"score", "0 to 100"}, [](Part p) -> FieldValue { return p.detection.score; }},
      {{"scale", "1 is as taught"}, [](Part p) -> FieldValue { return p.detection.scale; }},
      {{"contrast", "grey levels"}, [](Part p) -> FieldValue { return p.detection.contrast; }},
      {{"height", "mm above the table, of a height map"},
       [](Part p) { return known(p.detection.measurement(measurement::height_mm)); }},
      {{"tilt", "degrees of its surface, of a height map"},
       [](Part p) { return known(p.detection.measurement(measurement::height_tilt)); }},
      {{"ambiguous", "1: it may lie in another pose as well", true},
       [](Part p) { return yes(p.detection.ambiguous.has_value()); }},
      {{"range_end", "1: it lies near the end of a range", true},
       [](Part p) { return yes(!p.detection.range_end.empty()); }},
      {{"verdict", "good, bad, not found or not measured", false, true},
       [](Part p) { return known(p.verdict); }},
      {{"pixel_x", "pixels in the picture"}, [](Part p) -> FieldValue { return p.detection.x; }},
      {{"pixel_y", "pixels in the picture"}, [](Part p) -> FieldValue { return p.detection.y; }},
      {{"pixel_angle", "degrees in the picture, from x towards y"},
       [](Part p) -> FieldValue {
         if (!p.detection.has_angle) return {};
         return p.detection.angle.degrees();
       }},
      {{"world_x", "mm along the user's axes"},
       [](Part p) -> FieldValue { return p.world ? FieldValue(p.world->x_mm) : FieldValue(); }},
      {{"world_y", "mm along the user's axes"},
       [](Part p) -> FieldValue { return p.world ? FieldValue(p.world->y_mm) : FieldValue(); }},
      {{"world_angle", "degrees along the user's axes"},
       [](Part p) -> FieldValue {
         if (!p.world || !p.detection.has_angle) return {};
         return p.world->angle.degrees();
       }},
  };
  return rows;
}

using Sent = const SentReport&;
const std::vector<Row<Sent>>& report_rows() {
  static const std::vector<Row<Sent>> rows{
      {{"number", "counts the station's pictures from 1", true},
       [](Sent s) -> FieldValue { return static_cast<double>(s.report.number); }},
      {{"count", "parts that are sent", true},
       [](Sent s) -> FieldValue { return static_cast<double>(s.parts.size()); }},
      {{"found", "parts that were found, those that are withheld among them", true},
       [](Sent s) -> FieldValue { return static_cast<double>(s.report.parts.size()); }},
      {{"nests", "places where parts can be put", true},
       [](Sent s) -> FieldValue { return static_cast<double>(s.report.nests.size()); }},
      {{"age_ms", "milliseconds since the picture was taken", true},
       [](Sent s) -> FieldValue { return static_cast<double>(s.age_ms); }},
      {{"elapsed_ms", "milliseconds that finding took"},
       [](Sent s) -> FieldValue { return s.report.elapsed_ms; }},
      {{"setup", "number of the set-up by which it was looked at", true},
       [](Sent s) -> FieldValue {
         return s.report.setup ? FieldValue(static_cast<double>(s.report.setup->number)) : FieldValue();
       }},
      {{"setup_name", "its name", false, true},
       [](Sent s) -> FieldValue { return s.report.setup ? FieldValue(s.report.setup->name) : FieldValue(); }},
      {{"unusable", "1: the picture could not be looked at, such as a height map without a table", true},
       [](Sent s) { return yes(!s.report.unusable.empty()); }},
      {{"marks_shift", "mm by which the ring marks have moved the mapping since it was made"},
       [](Sent s) -> FieldValue {
         return s.report.marks ? FieldValue(s.report.marks->distance_mm()) : FieldValue();
       }},
      {{"marks_turn", "degrees by which they have turned it, about the plane's normal"},
       [](Sent s) -> FieldValue {
         return s.report.marks ? FieldValue(s.report.marks->turn.degrees()) : FieldValue();
       }},
      {{"drift", "how many watched quantities have moved away from what is usual", true},
       [](Sent s) -> FieldValue { return static_cast<double>(s.report.drift.size()); }},
      {{"picture", "its name", false, true}, [](Sent s) -> FieldValue { return s.report.picture; }},
      {{"verdict", "of the picture: good, bad, not found or not measured", false, true},
       [](Sent s) { return known(s.report.verdict); }},
  };
  return rows;
}

constexpr const char* readings = "reading.";

template <class Rows>
std::vector<FieldInfo> infos_of(const Rows& rows) {
  std::vector<FieldInfo> infos;
  for (const auto& row : rows) infos.push_back(row.info);
  return infos;
}

template <class Rows>
auto row_named(const Rows& rows, const std::string& name) {
  return std::find_if(rows.begin(), rows.end(), [&](const auto& row) { return row.info.name == name; });
}

[[noreturn]] void refuse(const char* of, const std::string& name) {
  fail_argument(fmt::format("a {} has no field '{}'", of, name));
}

FieldValue reading_of(const SentReport& sent, size_t part, const std::string& gauge) {
  for (const Reading& r : sent.report.readings)
    if (r.gauge == gauge && !r.fixed && (!r.part || *r.part == part)) return known(r.value);
  return {};
}

}  // namespace

SentReport sent_of(const Report& report, int64_t age_ms) {
  SentReport sent{report, age_ms, {}};
  for (size_t i = 0; i < report.parts.size(); ++i)
    if (report.parts[i].withheld.empty() && report.parts[i].robot) sent.parts.push_back(i);
  return sent;
}

const std::vector<FieldInfo>& report_fields() {
  static const std::vector<FieldInfo> fields = infos_of(report_rows());
  return fields;
}

const std::vector<FieldInfo>& part_fields() {
  static const std::vector<FieldInfo> fields = [] {
    std::vector<FieldInfo> all{{"index", "counts the parts of a result from 1", true}};
    const std::vector<FieldInfo> own = infos_of(part_rows());
    all.insert(all.end(), own.begin(), own.end());
    all.push_back({readings, "value of a gauge by its name, in the unit of the gauge"});
    return all;
  }();
  return fields;
}

const FieldInfo* field_info(const std::vector<FieldInfo>& fields, const std::string& name) {
  for (const FieldInfo& f : fields) {
    const std::string own = f.name;
    if (own == name || (own.ends_with('.') && name.starts_with(own) && name.size() > own.size())) return &f;
  }
  return nullptr;
}

std::string names_of(const std::vector<FieldInfo>& fields) {
  std::string names;
  for (const FieldInfo& f : fields)
    names += fmt::format("{}{}{}", names.empty() ? "" : ", ", f.name,
                         f.name == std::string(readings) ? "GAUGE" : "");
  return names;
}

FieldValue field_of(const SentReport& sent, const std::string& name) {
  const auto row = row_named(report_rows(), name);
  if (row == report_rows().end()) refuse("whole result", name);
  return row->value(sent);
}

FieldValue field_of(const SentReport& sent, size_t index, const std::string& name) {
  const size_t part = sent.parts.at(index);
  if (name == "index") return static_cast<double>(index + 1);
  if (name.starts_with(readings)) return reading_of(sent, part, name.substr(std::string(readings).size()));
  const auto row = row_named(part_rows(), name);
  if (row == part_rows().end()) refuse("part", name);
  return row->value(sent.report.parts[part]);
}

}  // namespace heron
