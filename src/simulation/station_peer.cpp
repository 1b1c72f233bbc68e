#include "heron/simulation/station_peer.hpp"

namespace heron {

using namespace text_protocol;

StationPeer::StationPeer(LineSocket socket, LinkMode mode, std::string token)
    : socket_(std::move(socket)), mode_(mode), token_(std::move(token)) {}

std::optional<StationLine> StationPeer::listen(LineSocket::Duration timeout) {
  using PeerClock = std::chrono::steady_clock;
  std::string text;
  for (auto deadline = PeerClock::now() + timeout; PeerClock::now() < deadline;) {
    const auto left = std::chrono::duration_cast<LineSocket::Duration>(deadline - PeerClock::now());
    const LineSocket::Wait wait = socket_.read(text, left);
    if (wait == LineSocket::Wait::timeout) continue;
    if (wait == LineSocket::Wait::closed) return std::nullopt;
    const Parsed<StationLine> parsed = parse_station_line(text, fields_);
    if (!parsed.line) {
      ++refused_;
      continue;
    }
    deadline = PeerClock::now() + timeout;
    if (const auto* hello = std::get_if<Hello>(&*parsed.line)) {
      fields_ = hello->fields;
      say(Robot{.mode = mode_, .token = token_});
    }
    if (!std::holds_alternative<Heartbeat>(*parsed.line) && !std::holds_alternative<Hold>(*parsed.line))
      return parsed.line;
  }
  return std::nullopt;
}

bool StationPeer::say(const RobotLine& line) { return socket_.write(encode(line)); }

}  // namespace heron
