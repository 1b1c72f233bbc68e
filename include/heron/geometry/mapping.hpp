#pragma once
#include <variant>

#include "heron/geometry/camera_mapping.hpp"
#include "heron/geometry/plane_mapping.hpp"

namespace heron {

/// Maps pixels to world coordinates: by a plane alone (z = 0), or by a camera, at every height.
class Mapping {
 public:
  Mapping() = default;  ///< the identity
  Mapping(PlaneMapping plane) : knowledge_(std::move(plane)) {}
  Mapping(CameraMapping camera) : knowledge_(std::move(camera)) {}

  /// Each throws Error{not_determined} where the pixel or point has no counterpart, or when a height other
  /// than 0 is asked of a plane, which knows nothing of heights.
  Point2 pixel_from_world(WorldPoint world, double height_mm = 0) const;
  WorldPoint world_from_pixel(Point2 pixel, double height_mm = 0) const;
  /// The world direction of what points along the picture angle `angle` at `pixel`.
  WorldAngle world_angle(Point2 pixel, Angle angle, double height_mm = 0) const;
  /// The pose of something seen at `pixel` pointing along the picture angle `angle`, `height_mm` above the
  /// work plane; its sigma holds that of the mapping and of the detection, `seen`, and is
  /// unknown where it depends on something that `seen` does not know.
  WorldPose world_pose(Point2 pixel, Angle angle, const PoseSigma& seen = exact_pose,
                       double height_mm = 0) const;
  /// Millimetres a pixel, mean of both directions.
  double mm_per_pixel(Point2 pixel, double height_mm = 0) const;

  const PlaneMapping* plane() const { return std::get_if<PlaneMapping>(&knowledge_); }
  const CameraMapping* camera() const { return std::get_if<CameraMapping>(&knowledge_); }

 private:
  std::variant<PlaneMapping, CameraMapping> knowledge_;
};

/// A direction of the mapping's world that one of the user's axes takes.
enum class AxisDirection { plus_x, minus_x, plus_y, minus_y };

/// Where the user's zero lies and which way the user's axes point; kept apart from the calibration, so that
/// either can be redone without losing the other.
struct Axes {
  WorldPoint zero_mm;  ///< in the mapping's world
  AxisDirection x = AxisDirection::plus_x, y = AxisDirection::plus_y;

  /// Throws Error{invalid_argument} when both axes lie along the same line.
  void require_valid() const;
  /// False when the two directions make a left-handed frame; angles then grow the other way as seen.
  bool right_handed() const;
  /// A pose of the mapping's world as the user counts it: the angle from the user's +X towards the user's +Y.
  UserPose seen_from(const WorldPose& world) const;
  WorldPoint world_from_user(UserPoint p) const;
};

/// As the user counts it: along the axes when they are set, else as the mapping has it.
UserPose user_pose(const WorldPose& world, const Axes* axes);

}  // namespace heron
