#pragma once
#include <atomic>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <set>
#include <vector>

#include "heron/camera/camera.hpp"
#include "heron/image/picture.hpp"
#include "heron/link/machine_link.hpp"
#include "heron/link/outlet.hpp"
#include "heron/report/report.hpp"
#include "heron/station/station_file.hpp"
#include "heron/store/picture_folder.hpp"
#include "heron/store/result_store.hpp"

namespace heron {

class LoadedSetUp;
struct CarriedMapping;
class StationControl;

/// By their addresses, as a station file names them.
using Cameras = std::map<std::string, std::unique_ptr<Camera>>;

/// Everything that decides what a set-up of a station finds: the files of both, mapping, targets, gauges and
/// what else they name.
std::vector<std::string> settings_files(const StationFile& file, const SetUp& setup);

/// Of what the settings_files hold. Throws Error{bad_file} when one cannot be read.
std::string settings_hash(const StationFile& file, const SetUp& setup);
class Arrivals;

/// Whether a report's picture is kept by the rule "bad": no part, one that is withheld, or a verdict that is
/// not good.
bool is_bad(const Report& report);

/// What kind of failure a report is, without what differs from picture to picture (docs/delivery.md); empty
/// for a good one.
std::string failure_kind(const Report& report);

/// What the station has learned of a set-up's drift and keeps in its store; nothing where there is nothing,
/// or where it was learned with other settings than those of `hash`. Throws Error{bad_file} when it is
/// broken.
std::optional<DriftWatch> learned_drift(const StationFile& file, const SetUp& setup, const std::string& hash);

/// Runs a station: takes pictures, finds the targets, sends the parts to the robot. `next` gives the report
/// of the next picture, which is stored before `deliver` sends it where the file says so; `step` does both.
/// What an earlier run with the same store could not deliver comes first: docs/delivery.md.
class Station {
 public:
  /// Loads and checks everything that the file names, of every set-up; nothing is connected yet. `camera`
  /// gives the pictures of the set-up that it starts with; without one, the file must name a recording. After
  /// `stop` was stopped, every wait of the station and its link ends within half a second; give the same
  /// token to the camera, so that its waits end as well. Throws Error{bad_file} when a part is missing or
  /// broken, Error{invalid_argument} when the parts do not fit together.
  explicit Station(StationFile file, std::unique_ptr<Camera> camera = nullptr, Work* stop = nullptr);
  /// With a camera for each address that set-ups name and that is no recording.
  Station(StationFile file, Cameras cameras, Work* stop);
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

  /// Pictures that are triggered from now on are looked at with this set-up, once it is loaded and checked:
  /// when it returns, it is ready. What changed in its files since it was loaded counts. When it cannot be
  /// loaded, the one before stays, and the answer says why. From any thread.
  CommandAnswer select(int number);
  /// The number of the set-up that the next trigger gets; 0 where there is only one.
  int selected() const;
  /// The set-up of the last report of `next`.
  const SetUp& used_set_up() const;

  /// What one picture holds by the selected set-up, without telling anyone. `robot_from_world` overrides its
  /// frame.
  Report examine(const Picture& picture, const RobotFromWorld& robot_from_world);

  const StationFile& file() const { return file_; }
  /// The picture of the last report; empty for one of an earlier run.
  const Picture& picture() const { return picture_; }
  /// A picture as the parts of its report by the selected set-up lie on it: grey levels; a height map leveled
  /// and on square pixels, the highest places bright. Throws as `examine`.
  Image<uint8_t> view(const Picture& picture) const;
  /// Whether the last report of `next` comes from an earlier run that could not deliver it.
  bool left_behind() const { return left_behind_; }
  /// Results that were not delivered and will not be: too old after a restart, or nobody waited any more.
  int given_up() const { return given_up_; }
  /// How many pictures of its cameras the store knows from earlier runs; a recording goes on after them.
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
  struct Question {
    std::shared_ptr<const LoadedSetUp> setup;
    RobotFromWorld robot_from_world;
  };
  std::optional<Report> look();
  std::optional<Report> look_once(const std::optional<Question>& question, int selected);
  bool has_arrived(Report& report);
  Report examined(const LoadedSetUp& setup, const Picture& picture, const RobotFromWorld& robot_from_world,
                  const CarriedMapping* carried = nullptr) const;
  const CarriedMapping* carried();
  void warn_of_marks(int number);
  void begin_drift();
  void watch_drift(Report& report);
  void keep_learned(int setup);
  std::shared_ptr<const LoadedSetUp> set_up() const;  ///< the selected one
  std::shared_ptr<const LoadedSetUp> set_up(int number) const;
  void open_store();
  std::optional<Report> take_left_behind();
  void wait_done_of(uint64_t number);
  void settle(uint64_t number, const Delivery& delivery);
  void keep_picture(const Report& report);
  void warn_of_poor_light(const Report& report);
  void state_changed();
  CommandAnswer change_to(int number);
  void resume_set_up();
  void require_readings() const;
  void require_known(const std::string& field) const;
  std::optional<Question> wait_asked();
  Camera& camera() const;
  Camera& camera_set_up();
  void set_camera(const SetUp& setup);
  bool take_picture(std::shared_ptr<const LoadedSetUp> setup);
  std::optional<Picture> take_patiently();
  int64_t age_ms() const;
  void require_link() const;
  bool stopped() const { return stop_ && stop_->stopped(); }

  StationFile file_;
  Cameras cameras_;
  std::set<std::string> own_recordings_;  ///< cameras that the station opened itself
  Work* stop_;
  mutable std::mutex setups_mutex_;  ///< of `setups_`
  std::map<int, std::shared_ptr<const LoadedSetUp>> setups_;
  std::mutex select_mutex_;
  std::shared_ptr<const LoadedSetUp> current_;                             ///< of the picture in hand
  std::map<std::string, std::shared_ptr<const LoadedSetUp>> set_at_ = {};  ///< whose exposure a camera has
  bool dry_ = false;
  struct Drift {
    DriftWatch watch;
    std::string settings;               ///< hash of the set-up that it learned from
    std::set<std::string> warned = {};  ///< quantities that are beyond their limits
    int64_t taken = 0;
  };
  std::map<int, Drift> drift_;  ///< by set-up
  struct Marks;
  std::map<int, Marks> marks_;  ///< by set-up: what the ring marks said last
  std::atomic<int> selections_ = 0;
  std::unique_ptr<Arrivals> arrivals_;  ///< where they are the trigger
  std::optional<ResultStore> store_;
  std::optional<PictureFolder> pictures_;
  bool left_behind_ = false, pictures_failing_ = false;
  uint64_t taken_before_ = 0;
  mutable std::mutex picture_mutex_;  ///< outlets copy it, from their threads
  Picture picture_;
  std::shared_ptr<const LoadedSetUp> picture_setup_;
  std::chrono::steady_clock::time_point taken_{};
  std::atomic<std::chrono::steady_clock::rep> busy_since_{0};  ///< 0: it is not
  uint64_t number_ = 0;
  int unfinished_ = 0, camera_failures_ = 0, given_up_ = 0;
  std::unique_ptr<StationControl> control_;
  std::unique_ptr<StationPort> port_;
  std::mutex outlets_mutex_;
  std::vector<std::unique_ptr<ReportOutlet>> outlets_;
  // The last members: their threads may select a set-up until they have ended.
  std::unique_ptr<StationLink> link_;
  std::unique_ptr<MachineLink> machine_;  ///< instead of `link_`
};

}  // namespace heron
