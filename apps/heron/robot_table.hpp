#pragma once
#include <string>

#include "heron/simulation/simulated_robot.hpp"

namespace heron::tool {

/// Where the simulated robot arrived, as a table on standard output.
void print_robot(const RobotLog& log);
/// The same as one JSON object.
std::string robot_json(const RobotLog& log);
/// Where each part lies that the robot went to: result, part, x, y.
std::string touched_csv(const RobotLog& log);
/// The largest distance from a true part over all arrivals; infinite when one matched none.
double worst_mm(const RobotLog& log);

}  // namespace heron::tool
