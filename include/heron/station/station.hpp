#pragma once
#include <memory>
#include <optional>

#include "heron/camera/camera.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/files/target_file.hpp"
#include "heron/image/picture.hpp"
#include "heron/report/report.hpp"
#include "heron/station/station_file.hpp"

namespace heron {

/// A set-up at work. Each `step` takes one picture, finds the targets, tells the robot, and returns the
/// report; nothing when the recording has ended.
class Station {
 public:
  /// Loads everything that the file names; nothing is connected yet. `camera` gives the pictures; without
  /// one, the file must name a recording. Throws Error{bad_file} when a part is missing or broken.
  explicit Station(StationFile file, std::unique_ptr<Camera> camera = nullptr);

  /// Connects to the robot. Throws Error{no_connection} when it is not there.
  void open_link();

  /// One trigger. Throws Error{no_connection} when the robot is gone for longer than the patience; the report
  /// is then lost to the robot and the message says which.
  std::optional<Report> step();

  /// What one picture holds, without telling anyone. `robot_from_world` overrides the file's frame.
  Report examine(const Picture& picture, const Pose2& robot_from_world);

  const StationFile& file() const { return file_; }
  /// The picture of the last report.
  const Picture& picture() const { return picture_; }
  /// Results that the robot acknowledged and never reported to be done with.
  int unfinished() const { return unfinished_; }
  StationLink* link() { return link_ ? &*link_ : nullptr; }

 private:
  struct Loaded {
    Target target;
    FindLimits limits;
  };
  std::optional<Report> push_step();
  std::optional<Report> ask_step();
  bool take_picture();

  StationFile file_;
  std::unique_ptr<Camera> camera_;
  MappingRecord mapping_;
  std::vector<Loaded> targets_;
  bool looks_at_color_ = false;
  std::optional<StationLink> link_;
  Picture picture_;
  uint64_t number_ = 0;
  int unfinished_ = 0;
};

}  // namespace heron
