#include "heron/standin/simulated_robot.hpp"

#include <fmt/format.h>

#include <thread>

#include "heron/base/error.hpp"
#include "heron/link/text_protocol.hpp"

namespace heron {
namespace {

using namespace text_protocol;
using Clock = std::chrono::steady_clock;

}  // namespace

/// One run: the connection, what is known of the station, and where the arm stands.
struct SimulatedRobot::Session {
  SimulatedRobot& robot;
  RobotLog log;
  std::optional<LineSocket> socket;
  std::string station;  // its session; numbers start anew with another
  uint64_t newest = 0;  // result acted on
  int newest_part = 0;  // of the result being asked for, part by part
  int sorries = 0;
  Pose2 at;
  std::map<uint64_t, std::vector<TruePart>> left;

  explicit Session(SimulatedRobot& r) : robot(r), at(r.settings_.home) {}

  bool connected() {
    if (socket && socket->is_open()) return true;
    if (robot.listener_) {
      if (auto peer = robot.listener_->accept(robot.settings_.patience)) socket.emplace(std::move(*peer));
    } else {
      const auto deadline = Clock::now() + robot.settings_.patience;
      while ((!socket || !socket->is_open()) && Clock::now() < deadline) try {
          socket.emplace(LineSocket::connect(robot.settings_.address, robot.settings_.patience));
        } catch (const Error&) {
          std::this_thread::sleep_for(LineSocket::Duration(50));
        }
    }
    return socket && socket->is_open();
  }

  /// The next line that is no heartbeat and no greeting; nothing when the station is silent or gone.
  std::optional<StationLine> listen() {
    std::string text;
    auto deadline = Clock::now() + robot.settings_.patience;
    while (socket && Clock::now() < deadline) {
      const LineSocket::Wait wait =
          socket->read(text, std::chrono::duration_cast<LineSocket::Duration>(deadline - Clock::now()));
      if (wait != LineSocket::Wait::line) return std::nullopt;
      const Parsed<StationLine> parsed = parse_station_line(text);
      if (!parsed.line) {
        ++log.refused_lines;
        continue;
      }
      if (const auto* hello = std::get_if<Hello>(&*parsed.line)) {
        if (hello->session != station) station = hello->session, newest = 0;
      } else if (std::holds_alternative<Beat>(*parsed.line)) {
        deadline = Clock::now() + robot.settings_.patience;
      } else {
        return parsed.line;
      }
    }
    return std::nullopt;
  }

  bool say(const RobotLine& line) { return socket && socket->write(encode(line)); }

  void go_to(const Part& part) {
    Arrival arrival{.result = part.number,
                    .index = part.index,
                    .name = part.name,
                    .sent = {part.x, part.y, degrees(part.angle)}};
    arrival.travel_s = distance(at.position(), arrival.sent.position()) / robot.settings_.speed_mm_s;
    std::this_thread::sleep_for(std::chrono::duration<double>(arrival.travel_s / robot.settings_.hurry));
    at = arrival.sent;
    judge(arrival);
    log.arrivals.push_back(std::move(arrival));
  }

  /// Compares with the nearest true part that no one went to yet.
  void judge(Arrival& arrival) {
    std::vector<TruePart>& parts = truth_of(arrival.result);
    auto nearest = parts.end();
    for (auto it = parts.begin(); it != parts.end(); ++it)
      if (it->name == arrival.name &&
          (nearest == parts.end() || distance(it->robot_from_part.position(), at.position()) <
                                         distance(nearest->robot_from_part.position(), at.position())))
        nearest = it;
    if (nearest == parts.end()) return;
    arrival.matched = true;
    arrival.off_mm = distance(nearest->robot_from_part.position(), at.position());
    arrival.off_angle = (at.angle - nearest->robot_from_part.angle).wrapped();
    parts.erase(nearest);
  }

  std::vector<TruePart>& truth_of(uint64_t result) {
    const auto& pictures = robot.truth_.pictures;
    return left
        .try_emplace(
            result, result >= 1 && result <= pictures.size() ? pictures[result - 1] : std::vector<TruePart>{})
        .first->second;
  }

  /// Takes one whole result; false when the connection broke in the middle, in which case it comes again.
  bool take(const Result& head) {
    std::vector<Part> parts;
    for (;;) {
      const auto line = listen();
      if (!line) return false;
      if (const auto* part = std::get_if<Part>(&*line)) {
        if (part->number == head.number) parts.push_back(*part);
        continue;
      }
      const auto* end = std::get_if<End>(&*line);
      if (!end || end->number != head.number || static_cast<int>(parts.size()) != head.count) return false;
      break;
    }
    if (head.number <= newest) {  // it came already: say so again, and do nothing twice
      ++log.repeats;
      return say(Ack{head.number}) && say(Done{head.number});
    }
    newest = head.number;
    ++log.results;
    truth_of(head.number);
    say(Ack{head.number});
    for (const Part& part : parts) go_to(part);
    say(Done{head.number});
    return true;
  }

  void run_pushed() {
    while (!log.over && connected()) {
      const auto line = listen();
      if (!line) {
        if (socket->is_open()) return;  // silent without a heartbeat: the station is stuck
        continue;
      }
      if (std::holds_alternative<Over>(*line))
        log.over = true;
      else if (const auto* head = std::get_if<Result>(&*line)) {
        if (!take(*head) && socket) socket->close();
      }
    }
  }

  Next question() const {
    const auto& looks = robot.settings_.looks;
    if (looks.empty()) return {};
    return {looks[std::min<size_t>(newest, looks.size() - 1)]};
  }

  void run_asking() {
    while (!log.over && connected()) {
      if (!say(question())) continue;
      const auto line = listen();
      if (!line) {
        if (socket->is_open()) return;
        continue;
      }
      if (std::holds_alternative<Over>(*line))
        log.over = true;
      else if (const auto* none = std::get_if<None>(&*line))
        finish(none->number);
      else if (const auto* part = std::get_if<Part>(&*line)) {
        truth_of(part->number);
        say(Ack{part->number});
        if (part->index <= newest_part)
          ++log.repeats;  // the acknowledgement got lost; it was gripped already
        else
          newest_part = part->index, go_to(*part);
      } else if (std::holds_alternative<Sorry>(*line)) {
        ++log.refused_lines;
        if (++sorries == 5) return;  // asking the same again will not help
      }
    }
  }

  /// NONE closes a result: the next question is about the next picture.
  void finish(uint64_t number) {
    truth_of(number);
    say(Ack{number});
    newest_part = 0;
    if (number > newest) newest = number, ++log.results;
  }
};

SimulatedRobot::SimulatedRobot(RobotSettings settings, RobotTruth truth)
    : settings_(std::move(settings)), truth_(std::move(truth)) {
  if (!(settings_.speed_mm_s >= 1 && settings_.speed_mm_s <= 100000))
    fail_argument(fmt::format("robot: a speed of {} mm/s; from 1 to 100000", settings_.speed_mm_s));
  if (!(settings_.hurry >= 1 && settings_.hurry <= 1e6))
    fail_argument(fmt::format("robot: hurry {} must be from 1 to 1000000", settings_.hurry));
  if (settings_.listens) listener_.emplace(settings_.address);
}

Address SimulatedRobot::address() const { return listener_ ? listener_->address() : settings_.address; }

RobotLog SimulatedRobot::run() {
  Session session(*this);
  if (settings_.asks)
    session.run_asking();
  else
    session.run_pushed();
  for (const auto& [result, parts] : session.left) session.log.left_lying += static_cast<int>(parts.size());
  return session.log;
}

}  // namespace heron
