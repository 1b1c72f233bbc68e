#pragma once
#include <atomic>
#include <memory>
#include <mutex>
#include <optional>
#include <vector>

#include "heron/camera/camera.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/files/target_file.hpp"
#include "heron/gauge/gauge.hpp"
#include "heron/image/picture.hpp"
#include "heron/link/machine_link.hpp"
#include "heron/link/outlet.hpp"
#include "heron/report/report.hpp"
#include "heron/station/station_file.hpp"
#include "heron/store/picture_folder.hpp"
#include "heron/store/result_store.hpp"

namespace heron {

class StationControl;

/// Of everything that decides what a station finds: its file, mapping, targets and gauges.
std::string settings_hash(const StationFile& file);
/// Whether a report's picture is kept by the rule "bad": no part, one that is withheld, or a verdict that is
/// not good.
bool is_bad(const Report& report);

/// Runs a set-up: takes pictures, finds the targets, sends the parts to the robot. `next` gives the report of
/// the next picture, which is stored before `deliver` sends it where the file says so; `step` does both.
/// What an earlier run with the same store could not deliver comes first: docs/delivery.md.
class Station {
 public:
  /// Loads and checks everything that the file names; nothing is connected yet. `camera` gives the pictures;
  /// without one, the file must name a recording. After `stop` was stopped, every wait of the station and its
  /// link ends within half a second; give the same token to the camera, so that its waits end as well. Throws
  /// Error{bad_file} when a part is missing or broken, Error{invalid_argument} when the parts do not fit
  /// together.
  explicit Station(StationFile file, std::unique_ptr<Camera> camera = nullptr, Work* stop = nullptr);
  ~Station();

  /// Opens the store and connects to the robot. Throws Error{no_connection} when it is not there, and the
  /// errors of ResultStore. A link of the receiver's own lines only opens its port: the receiver is waited
  /// for when there is something to send.
  void open_link();
  /// With a link that was opened already: ModbusLink for a file with registers.
  void open_link(std::unique_ptr<MachineLink> link);
  /// What outlets see of this station, for as long as it lives. After the link was opened; throws
  /// Error{invalid_argument} for a station without a store.
  StationPort& port();
  /// Reports go there too, from their own threads. Before the first `next`.
  void add_outlet(std::unique_ptr<ReportOutlet> outlet);
  const std::vector<std::unique_ptr<ReportOutlet>>& outlets() const { return outlets_; }
  /// Instead: nothing goes out, `next` takes its pictures unasked, and `sent_text` says what would be sent.
  /// Throws Error{invalid_argument} for a camera on the arm: where it stands comes with the robot's question.
  void begin_dry_run();

  /// Takes the next picture, in mode `ask` when the robot asks, and finds the targets in it. Nothing when the
  /// recording has ended or after a stop; END-OF-RESULTS was then sent. A camera that fails is tried again
  /// for the file's `camera_timeout`. Throws Error{no_connection} when camera or robot are gone for longer.
  std::optional<Report> next();
  /// Sends the last report of `next` to the robot, and waits until the robot is done with it.
  [[nodiscard]] Delivery deliver(const Report& report);
  /// What `deliver` sends of it, byte by byte; of a robot that asks, all answers one after the other. Of
  /// registers a line each: its number, its words in hex, whether it is valid, and what it is.
  std::string sent_text(const Report& report) const;
  /// Tells the robot that no result will follow.
  void farewell();
  /// `next`, then `deliver`. Throws Error{no_connection} with the result's number when it was not
  /// acknowledged, unless a stop was the reason.
  std::optional<Report> step();

  /// What one picture holds, without telling anyone. `robot_from_world` overrides the file's frame.
  Report examine(const Picture& picture, const RobotFromWorld& robot_from_world);

  const StationFile& file() const { return file_; }
  /// The picture of the last report; empty for one of an earlier run.
  const Picture& picture() const { return picture_; }
  /// Whether the last report of `next` comes from an earlier run that could not deliver it.
  bool left_behind() const { return left_behind_; }
  /// Results that were not delivered and will not be: too old after a restart, or nobody waited any more.
  int given_up() const { return given_up_; }
  /// How many pictures of the camera the store knows from earlier runs; a recording goes on after them.
  uint64_t taken_before() const { return taken_before_; }
  /// Results that the robot acknowledged and never reported to be done with.
  int unfinished() const { return unfinished_; }
  /// How long the picture in hand has been looked at; 0 between pictures. From any thread: a watchdog's.
  std::chrono::milliseconds busy_for() const;
  /// Triggers that came while others were worked on, and were not kept.
  int64_t dropped_triggers() const;
  /// How often the camera failed and was tried again.
  int camera_failures() const { return camera_failures_; }
  /// Of the link, once it is open.
  LinkCounts link_counts() const;
  Address link_address() const;
  bool link_open_to_all() const;  ///< docs of StationLink

 private:
  class Port;
  struct Loaded {
    Target target;
    FindOptions options;
  };
  std::optional<Report> look();
  void open_store();
  std::optional<Report> take_left_behind();
  void wait_done_of(uint64_t number);
  void settle(uint64_t number, const Delivery& delivery);
  void keep_picture(const Report& report);
  void state_changed();
  void load_gauge_set();
  void require_readings() const;
  std::optional<RobotFromWorld> frame_of_question();
  bool take_picture();
  std::optional<Picture> take_patiently();
  int64_t age_ms() const;
  void require_link() const;
  bool stopped() const { return stop_ && stop_->stopped(); }

  StationFile file_;
  bool own_recording_;
  std::unique_ptr<Camera> camera_;
  Work* stop_;
  MappingRecord mapping_;
  std::vector<Loaded> targets_;
  std::optional<GaugeSet> gauges_;
  bool looks_at_color_ = false;
  std::optional<StationLink> link_;
  std::unique_ptr<MachineLink> machine_;  ///< instead of `link_`
  bool dry_ = false;
  std::optional<ResultStore> store_;
  std::optional<PictureFolder> pictures_;
  std::string settings_;  ///< hash of everything that decides what is found
  bool left_behind_ = false, pictures_failing_ = false;
  uint64_t taken_before_ = 0;
  mutable std::mutex picture_mutex_;  ///< outlets copy it, from their threads
  Picture picture_;
  std::chrono::steady_clock::time_point taken_{};
  std::atomic<std::chrono::steady_clock::rep> busy_since_{0};  ///< 0: it is not
  uint64_t number_ = 0;
  int unfinished_ = 0, camera_failures_ = 0, given_up_ = 0;
  std::unique_ptr<StationControl> control_;
  std::unique_ptr<StationPort> port_;
  std::mutex outlets_mutex_;
  std::vector<std::unique_ptr<ReportOutlet>> outlets_;  ///< the last member: they end before the others go
};

}  // namespace heron
