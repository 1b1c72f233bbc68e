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

/// A set-up at work: takes pictures, finds the targets, tells the robot. Each result is looked at with
/// `next`, kept by whoever wants to, and then told with `deliver`; `step` does both.
class Station {
 public:
  /// Loads and checks everything that the file names; nothing is connected yet. `camera` gives the pictures;
  /// without one, the file must name a recording. After `stop` was stopped, every wait ends within half a
  /// second, beside what the camera itself takes. Throws Error{bad_file} when a part is missing or broken,
  /// Error{invalid_argument} when the parts do not fit together.
  explicit Station(StationFile file, std::unique_ptr<Camera> camera = nullptr, Work* stop = nullptr);

  /// Connects to the robot. Throws Error{no_connection} when it is not there.
  void open_link();

  /// One trigger: the next picture, when the robot asks where the station is asked, and what is in it;
  /// nothing when the recording has ended or a stop was asked for, and the robot is then told that no result
  /// follows. A camera that fails is tried again for the file's `camera_patience`. Throws
  /// Error{no_connection} when camera or robot are gone for longer.
  std::optional<Report> next();
  /// Tells the robot of the last result of `next`, and waits until it is done with it.
  [[nodiscard]] Delivery deliver(const Report& report);
  /// Both in one. Throws Error{no_connection} with the result's number when it was not acknowledged.
  std::optional<Report> step();

  /// What one picture holds, without telling anyone. `robot_from_world` overrides the file's frame.
  Report examine(const Picture& picture, const Pose2& robot_from_world);

  const StationFile& file() const { return file_; }
  /// The picture of the last report.
  const Picture& picture() const { return picture_; }
  /// Results that the robot acknowledged and never reported to be done with.
  int unfinished() const { return unfinished_; }
  /// How often the camera failed and was tried again.
  int camera_failures() const { return camera_failures_; }
  StationLink* link() { return link_ ? &*link_ : nullptr; }

 private:
  struct Loaded {
    Target target;
    FindLimits limits;
  };
  std::optional<Report> look();
  std::optional<Pose2> frame_of_question();
  bool take_picture();
  std::optional<Picture> take_patiently();
  int64_t age_ms() const;
  bool stopped() const { return stop_ && stop_->stopped(); }

  StationFile file_;
  std::unique_ptr<Camera> camera_;
  Work* stop_;
  MappingRecord mapping_;
  std::vector<Loaded> targets_;
  bool looks_at_color_ = false;
  std::optional<StationLink> link_;
  Picture picture_;
  std::chrono::steady_clock::time_point taken_{};
  uint64_t number_ = 0;
  int unfinished_ = 0, camera_failures_ = 0;
};

}  // namespace heron
