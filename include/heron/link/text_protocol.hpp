#pragma once
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

#include "heron/base/pose.hpp"

namespace heron::text_protocol {

/// Able Heron's robot text protocol, version 1: lines of ASCII. The grammar and its reasons are in
/// docs/robot-text-protocol.md. Millimetres and degrees; angles grow from +X towards +Y.
inline constexpr int version = 1;
inline constexpr size_t longest_line = 512;  ///< bytes without the line's end; a longer one is refused

// What a station says.
struct Hello {
  int version = text_protocol::version;
  std::string session;
};
struct Result {
  uint64_t number = 0;
  int count = 0;
  int64_t age_ms = 0;
  bool again = false;
};
struct Part {
  uint64_t number = 0;
  int index = 0;
  std::string name;
  double x = 0, y = 0, angle = 0, score = 0;
};
struct End {
  uint64_t number = 0;
};
struct None {
  uint64_t number = 0;
};  ///< no part is left of this result
struct Over {
  uint64_t number = 0;
};  ///< no result will follow this one
struct Beat {
  uint64_t number = 0;
};  ///< still there; the newest result is this one
struct Sorry {
  std::string reason;
};  ///< the last line was not understood or cannot be answered
using StationLine = std::variant<Hello, Result, Part, End, None, Over, Beat, Sorry>;

// What a robot says.
struct Ack {
  uint64_t number = 0;
};
struct Next {
  std::optional<Pose2> robot_from_flange;
};
struct Done {
  uint64_t number = 0;
};
using RobotLine = std::variant<Ack, Next, Done>;

/// Without the line's end. Characters of a name outside A-Z a-z 0-9 _ . - become _.
std::string encode(const StationLine& line);
std::string encode(const RobotLine& line);

/// A line that was read, or why it could not be.
template <class Line>
struct Parsed {
  std::optional<Line> line;
  std::string error;
};

/// Accepts exactly what the grammar allows; never throws.
Parsed<StationLine> parse_station_line(std::string_view text);
Parsed<RobotLine> parse_robot_line(std::string_view text);

}  // namespace heron::text_protocol
