#pragma once
#include <chrono>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "heron/link/station_link.hpp"
#include "heron/report/report.hpp"

namespace heron {

/// What a station is doing, for whoever watches it.
enum class StationState {
  working,
  held,   ///< a person adjusts something: no picture is taken, and no result comes
  ended,  ///< no result will follow
};
inline constexpr const char* station_state_words[] = {"working", "held", "ended"};
inline const char* word_of(StationState state) { return station_state_words[static_cast<size_t>(state)]; }

/// What a station may be asked for from outside.
struct StationCommand {
  enum Kind { trigger, hold, release, select };
  Kind kind;
  int setup;  ///< to select
  StationCommand(Kind k, int number = 0) : kind(k), setup(number) {}
};
/// "trigger", "hold", "release" or "select 2"; nothing for other words.
std::optional<StationCommand> station_command(std::string_view words);

/// The report of a stored result, as report_json writes it.
struct NumberedReport {
  uint64_t number = 0;
  std::string json;
};

/// What an outlet sees of its station. Every call may come from any thread and returns soon; those that read
/// results may throw the errors of ResultStore.
class StationPort {
 public:
  virtual ~StationPort() = default;
  virtual std::string name() const = 0;
  virtual std::string session() const = 0;
  virtual StationState state() const = 0;
  /// The set-up that the next trigger gets; nothing where there is only one.
  virtual std::optional<SetUpName> setup() const { return std::nullopt; }
  virtual uint64_t newest() const = 0;
  virtual CommandAnswer command(const StationCommand& command) = 0;
  /// Those with a number above `number`, oldest first.
  virtual std::vector<NumberedReport> reports_after(uint64_t number, size_t limit) const = 0;
  virtual std::optional<NumberedReport> report(uint64_t number) const = 0;
  /// The newest picture as the bytes of a PNG file; empty before the first.
  virtual std::string picture_png() const = 0;
  /// How far a receiver by this name has got.
  virtual uint64_t position(const std::string& receiver) const = 0;
  virtual void set_position(const std::string& receiver, uint64_t number) = 0;
};

/// An outlet that is woken waits for this before it works: the machine's message leaves first, with the
/// processor to itself.
inline constexpr std::chrono::milliseconds machine_first{5};

struct OutletCounts {
  int64_t sent = 0;      ///< reports that were acknowledged
  int64_t waiting = 0;   ///< stored, and not acknowledged
  int64_t left_out = 0;  ///< numbers that had left the store before they were sent
  int connections = 0;   ///< how often it connected, or was connected to
  int commands = 0;      ///< that were taken
  int refused = 0;       ///< commands and requests that were not
};

/// A link beside the machine's, which takes reports out of the store at its own pace, from threads of its
/// own: slow or gone, it delays neither the machine's link nor the station.
class ReportOutlet {
 public:
  virtual ~ReportOutlet() = default;
  /// A result was stored, or the state changed. Returns at once.
  virtual void wake() = 0;
  virtual OutletCounts counts() const = 0;
  /// "MQTT at 127.0.0.1:1883, topic studio/tray".
  virtual std::string text() const = 0;
};

}  // namespace heron
