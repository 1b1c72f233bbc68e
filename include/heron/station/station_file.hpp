#pragma once
#include <chrono>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "heron/base/pose.hpp"
#include "heron/link/line_format.hpp"
#include "heron/link/outlet_settings.hpp"
#include "heron/link/register_map.hpp"
#include "heron/link/station_link.hpp"
#include "heron/locate/pattern.hpp"
#include "heron/station/order.hpp"
#include "heron/store/result_store.hpp"

namespace heron {

/// A target of a station: its file and what the station sets differently.
struct StationTarget {
  std::string file;
  std::optional<Range<Angle>> angle = {};
  std::optional<Range<double>> scale = {};
  std::optional<double> min_score = {}, min_contrast = {};
  std::optional<int> max_count = {};
  std::optional<Box> search = {};  ///< where origins may lie, picture coordinates
};

/// Where the camera hangs.
enum class Mount {
  fixed,  ///< beside the robot
  arm,    ///< on its arm; the robot sends its pose with each question
};

/// Reasons for which a station may not send a part that was found.
enum class Doubt {
  ambiguous,  ///< it may lie in another pose as well
  range_end,  ///< it lies so near a range's end that it may lie beyond
  not_good,   ///< its gauges did not find it good
};

/// Which raw pictures stay beside the results.
enum class KeptPictures {
  none,
  bad,  ///< without a part, with one that is withheld, or with a verdict that is not good
  all,
};

/// Where a station's results outlive it.
struct StationStore {
  StoreSettings results;
  /// A result that an earlier run could not deliver is given up when it is older; nothing: never.
  std::optional<std::chrono::milliseconds> give_up = {};
  KeptPictures pictures = KeptPictures::none;
  int keep_pictures = 1000;  ///< the newest of them
};

/// What begins a picture.
enum class Trigger {
  station,  ///< the station itself: at once when the machine is done, or when it asks
  timer,    ///< every `every`
  command,  ///< `trigger` over a further link, such as MQTT or HTTP
};

struct TriggerSettings {
  Trigger by = Trigger::station;
  std::chrono::milliseconds every{1000};
  /// How many triggers may wait while the station works on one; further ones are dropped and counted.
  int queue = 0;
};

/// A whole set-up, as in its file; docs/formats.md. Paths are made relative to the file's folder.
struct StationFile {
  std::string path = {};  ///< of the station file itself; empty for one that was made in code
  std::string name, mapping;
  std::string camera;  ///< its address, as in Camera::info; recording:FOLDER for a recording
  Mount mount = Mount::fixed;
  RobotFromWorld robot_from_world;    ///< of a fixed camera
  FlangeFromWorld flange_from_world;  ///< of one on the arm
  bool from_axes = false;             ///< both start from the mapping's zero and axes, not from its board
  std::vector<StationTarget> targets;
  std::string gauges = {};  ///< gauge file; empty: parts are found and not judged
  OrderSettings order = {};
  bool quick = false;  ///< skips the search beyond the limits for parts that they reject
  std::optional<double> exposure_ms = {}, gain = {};  ///< set before the first picture; nothing: as they are
  std::chrono::milliseconds camera_timeout{10000};  ///< for a camera that fails, before the station ends
  std::set<Doubt> withhold = {Doubt::ambiguous};    ///< such parts are reported and not sent
  LinkSettings link;
  TriggerSettings trigger = {};
  std::optional<StationStore> store = {};
  std::optional<MqttSettings> mqtt = {};      ///< needs a store
  std::optional<HttpSettings> http = {};      ///< needs a store
  std::optional<RegisterMap> registers = {};  ///< Modbus, instead of the robot text protocol
  std::optional<LineFormat> lines = {};  ///< the receiver's own lines, instead of the robot text protocol
};

/// Throws Error{bad_file} with line and column.
StationFile load_station(const std::string& path);

}  // namespace heron
