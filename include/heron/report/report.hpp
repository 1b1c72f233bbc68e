#pragma once
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "heron/locate/sighting.hpp"

namespace heron {

/// A part that was found, with its place in the frames that are known.
struct ReportedPart {
  Sighting sighting;
  std::optional<WorldPose> world;  ///< on the mapping's plane
  std::optional<WorldPose> robot;  ///< in the robot's frame
};

/// Everything about one trigger: what is drawn, stored and sent.
struct Report {
  uint64_t number = 0;    ///< counts a station's triggers from 1; 0 outside a station
  std::string picture;    ///< its name
  double elapsed_ms = 0;  ///< from the picture in memory to the parts' poses
  std::vector<ReportedPart> parts;
  std::vector<Miss> misses;
};

/// Puts findings into a report, with world poses when there is a mapping and robot poses when there is a
/// frame as well. A part whose pixel looks past the plane's horizon keeps its picture pose alone.
Report report_of(Findings findings, const PlaneMapping* mapping, const Pose2* robot_from_world);

}  // namespace heron
