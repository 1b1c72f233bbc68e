#pragma once
#include <chrono>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "heron/link/line_format.hpp"
#include "heron/link/outlet_settings.hpp"
#include "heron/link/register_map.hpp"
#include "heron/link/station_link.hpp"
#include "heron/locate/follow.hpp"
#include "heron/station/set_up.hpp"
#include "heron/store/result_store.hpp"

namespace heron {

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
  int keep_first = 0;        ///< pictures of each kind of failure that stay for good
};

/// What begins a picture.
enum class Trigger {
  station,  ///< the station itself: at once when the machine is done, or when it asks
  timer,    ///< every `every`
  command,  ///< `trigger` over a further link, such as MQTT or HTTP
  arrival,  ///< a part that was not there before; pictures are taken all the time
};

/// When a part has arrived. Each is sent once, as long as it is followed.
struct ArrivalSettings {
  FollowSettings follow = {};
  int steady = 2;       ///< pictures that it must be seen in first
  double apart_s = 0;   ///< between two results, at least; what arrives meanwhile comes with the next
  double apart_mm = 0;  ///< from every part that came before it and is still seen; 0: any distance
};

struct TriggerSettings {
  Trigger by = Trigger::station;
  std::chrono::milliseconds every{
      1000};  ///< for arrivals from picture to picture; 0: as the camera gives them
  /// How many triggers may wait while the station works on one; further ones are dropped and counted.
  int queue = 0;
  ArrivalSettings arrival = {};
};

/// A whole station, as in its file; docs/formats.md.
struct StationFile {
  std::string path = {};  ///< empty for one that was made in code
  std::string name;
  /// What the station looks at and for. Where there are several set-ups: what each has that its own file does
  /// not say otherwise.
  SetUp setup = {};
  std::vector<SetUp> setups = {};  ///< by number; empty: `setup` is the only one
  int start = 0;                   ///< number of the set-up that it starts with
  /// With a store: starts with the set-up that an earlier run selected last, where there is one.
  bool resume = true;
  std::set<Doubt> withhold = {Doubt::ambiguous};  ///< such parts are reported and not sent
  LinkSettings link;
  TriggerSettings trigger = {};
  std::optional<StationStore> store = {};
  std::optional<MqttSettings> mqtt = {};      ///< needs a store
  std::optional<HttpSettings> http = {};      ///< needs a store
  std::optional<RegisterMap> registers = {};  ///< Modbus, instead of the robot text protocol
  std::optional<LineFormat> lines = {};  ///< the receiver's own lines, instead of the robot text protocol

  /// Its set-ups; the only one where there are not several.
  std::vector<SetUp> all_setups() const { return setups.empty() ? std::vector{setup} : setups; }
};

/// Throws Error{bad_file} with line and column, of a set-up's file too.
StationFile load_station(const std::string& path);
/// One set-up of a station, as its file stands now. Throws the same.
SetUp load_set_up(const std::string& station_path, int number);

}  // namespace heron
