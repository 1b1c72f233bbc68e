#pragma once
#include <functional>
#include <map>
#include <string>
#include <vector>

#include "hand.hpp"
#include "heron/report/report.hpp"
#include "heron/station/set_up.hpp"

namespace heron {

/// What choosing needs to know of a target.
struct Graspable {
  PartGeometry geometry;
  std::vector<PartFromGrasp> grasps;  ///< at least one
  Box extent;                         ///< about its origin, pixels as taught
  double min_score = 0;
};

/// Chooses how each part of a report is taken, and where it is put; docs/grasps.md.
class Grasping {
 public:
  /// Of a grasp: above the table, where it is measured there; nothing where it is not.
  using HeightOf = std::function<std::optional<double>(const Detection&, const PartFromGrasp&)>;

  /// `targets` by their names. All three must outlive it.
  Grasping(const SetUp& setup, const Frames& frames, const std::map<std::string, Graspable>& targets)
      : setup_(setup), frames_(frames), targets_(targets) {}

  /// On a table whose parts are as high as they were taught. `misses`: the target that each miss of the
  /// report resembles. `about`: what differs from the empty table (heights_of); empty where it is not known.
  void choose(Report& report, const std::vector<std::string>& misses, const Image<float>& about);
  /// On a height map, which shows everything that stands about.
  void choose(Report& report, const Image<float>& map, const HeightOf& height_of);
  /// After choosing: a nest of the report for each part that is taken.
  void place(Report& report, const PartGeometry& nest) const;

 private:
  struct Candidate {
    int number = 1;
    PartFromGrasp grasp;
    RobotPose pose;
  };
  using InTheWay = std::function<std::string(size_t part, const std::vector<HandPiece>&)>;

  void choose(Report& report, const InTheWay& in_the_way, const HeightOf& height_of);
  std::vector<Candidate> candidates(const ReportedPart& part, const HeightOf& height_of) const;
  std::string why_not(size_t part, const Candidate& candidate, const InTheWay& in_the_way) const;
  ChosenGrasp chosen(const Candidate& candidate, bool free) const;
  std::optional<RobotPose> robot_pose(const Detection& d, const PartGeometry& geometry,
                                      const PartFromGrasp& grasp) const;
  std::vector<Point2> outline(const Detection& d, const Graspable& target) const;
  std::optional<Point2> sent_point(Point2 pixel, double height_mm) const;
  std::optional<Point2> pixel_point(Point2 sent, double height_mm) const;
  double table_z() const { return setup_.heights ? setup_.heights->table_z_mm : 0; }
  double above_table(const RobotPose& pose) const { return pose.z_mm - table_z(); }

  const SetUp& setup_;
  const Frames& frames_;
  const std::map<std::string, Graspable>& targets_;
  std::vector<PartFromGrasp> taken_;  ///< of each part of the report, as it was chosen
};

}  // namespace heron
