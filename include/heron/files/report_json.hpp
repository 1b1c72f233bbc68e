#pragma once
#include <string>

#include "heron/report/report.hpp"

namespace heron {

/// One line of JSON; names and units in docs/formats.md. Numbers read back to the same double.
std::string report_json(const Report& report);

/// The report of such a line, so that its JSON is the same again. What is only drawn is not in it: the edges
/// met, contours, profiles. Throws Error{bad_file}; `from` words where the line stands.
Report report_of_json(const std::string& line, const std::string& from);

/// One part of it, as it stands in "found".
std::string part_json(const ReportedPart& part);

/// {"x":..,"y":..,"z":..,"angle":..,"sigma":{..}}: millimetres and degrees.
std::string world_json(const UserPose& pose);

}  // namespace heron
