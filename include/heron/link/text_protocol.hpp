#pragma once
#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

#include "heron/base/frame.hpp"

namespace heron {

/// Which side begins a result.
enum class LinkMode {
  push,  ///< the station sends after each picture
  ask,   ///< the robot asks for the next part
};

}  // namespace heron

namespace heron::text_protocol {

/// "push" or "ask".
std::string_view mode_word(LinkMode mode);

/// Able Heron's robot text protocol, version 2: lines of ASCII. The grammar and its reasons are in
/// docs/robot-text-protocol.md. Millimetres and degrees; angles grow from +X towards +Y.
inline constexpr int version = 2;
inline constexpr size_t longest_line = 512;   ///< bytes without the line's end; a longer one is refused
inline constexpr double largest_value = 1e6;  ///< of a number in a PART, either side of 0

/// What a PART line can hold beside the name.
enum class Field {
  x,
  y,
  angle,
  score,
  z,
  sigma_x,
  sigma_y,
  sigma_angle,
  ambiguous,
  range_end,
  verdict,
  setup,
  grasp,
  approach_z,
  retreat_z,
  place_x,
  place_y,
  place_z,
  place_angle,
  velocity_x,
  velocity_y
};
inline constexpr size_t field_count = 21;
/// The words for fields, in their order.
extern const std::array<const char*, field_count> field_words;
using Fields = std::vector<Field>;
/// x, y, angle, score.
const Fields& default_fields();

// Lines of a station.
struct Hello {
  int version = text_protocol::version;
  std::string session;
  LinkMode mode = LinkMode::push;
  Fields fields = default_fields();
};
struct Result {
  uint64_t number = 0;
  int count = 0;
  int64_t age_ms = 0;
  int setup = 0;  ///< by which the picture was looked at; 0: the station has only one
  bool again = false;
};
struct Part {
  uint64_t number = 0;
  int index = 0;
  std::string name;
  std::array<std::optional<double>, field_count> values = {};  ///< nothing: not known

  std::optional<double>& operator[](Field f) { return values[static_cast<size_t>(f)]; }
  const std::optional<double>& operator[](Field f) const { return values[static_cast<size_t>(f)]; }
  /// False when a value is not finite or larger than a line may carry.
  bool can_be_sent() const;
};
struct End {
  uint64_t number = 0;
};
struct None {
  uint64_t number = 0;
};  ///< no part is left of this result
struct EndOfResults {
  uint64_t number = 0;
};  ///< no result will follow this one
struct Heartbeat {
  uint64_t number = 0;
};  ///< still there; the newest result is this one
struct Hold {
  uint64_t number = 0;
};  ///< instead of a heartbeat: no result comes until a person releases the station
struct Selected {
  int setup = 0;
};  ///< it is loaded: pictures that are triggered from now on are looked at with it
struct Refusal {
  std::string reason;
};  ///< the last line was not understood or cannot be answered
using StationLine =
    std::variant<Hello, Result, Part, End, None, EndOfResults, Heartbeat, Hold, Selected, Refusal>;

// Lines of a robot.
struct Robot {
  int version = text_protocol::version;
  LinkMode mode = LinkMode::push;
  std::string token = {};  ///< empty: none
};                         ///< its answer to the greeting
struct Ack {
  uint64_t number = 0;
  int index = 0;  ///< of a part that was asked for; 0: a whole result, or NONE
};
struct Next {
  std::optional<RobotFromFlange> robot_from_flange;
};
struct Done {
  uint64_t number = 0;
};
struct Select {
  int setup = 0;
};
using RobotLine = std::variant<Robot, Ack, Next, Done, Select>;

/// Without the line's end. Characters of a name outside A-Z a-z 0-9 _ . - become _.
std::string encode(const StationLine& line, const Fields& fields = default_fields());
std::string encode(const RobotLine& line);

/// The lines of a whole result, from RESULT to END, with LF between them.
std::string encode_result(const Result& result, const std::vector<Part>& parts, const Fields& fields);

/// A line that was read, or why it could not be.
template <class Line>
struct Parsed {
  std::optional<Line> line;
  std::string error;
};

/// Accepts exactly what the grammar allows; never throws. A PART holds the fields of the greeting.
Parsed<StationLine> parse_station_line(std::string_view text, const Fields& fields = default_fields());
Parsed<RobotLine> parse_robot_line(std::string_view text);

}  // namespace heron::text_protocol
