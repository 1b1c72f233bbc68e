#include "heron/simulation/simulated_robot.hpp"

#include <fmt/format.h>

#include <thread>

#include "heron/base/error.hpp"
#include "heron/link/text_protocol.hpp"
#include "heron/simulation/station_peer.hpp"
#include "robot_memory.hpp"

namespace heron {
namespace {

using namespace text_protocol;
using Clock = std::chrono::steady_clock;

}  // namespace

/// One run: the connection, what is known of the station, and where the arm stands.
struct SimulatedRobot::Session {
  SimulatedRobot& robot;
  RobotLog log;
  std::optional<StationPeer> peer;
  RobotMemory memory;
  int refusals = 0;
  bool refused_last = false;  // the station's last line was a refusal
  Pose2 at;
  std::map<uint64_t, std::vector<TruePart>> left;

  explicit Session(SimulatedRobot& r) : robot(r), memory(r.settings_.memory), at(r.settings_.home) {}

  bool connected() {
    if (peer && peer->is_open()) return true;
    end_connection();
    const auto deadline = Clock::now() + robot.settings_.timeout;
    while (!peer && Clock::now() < deadline) {
      if (auto socket = connection()) peer.emplace(std::move(*socket), mode(), robot.settings_.token);
    }
    return peer.has_value();
  }

  std::optional<LineSocket> connection() {
    if (robot.listener_) return robot.listener_->accept(robot.settings_.timeout);
    try {
      return LineSocket::connect(robot.settings_.address, robot.settings_.timeout);
    } catch (const Error&) {
      std::this_thread::sleep_for(LineSocket::Duration(50));
      return std::nullopt;
    }
  }

  void end_connection() {
    if (peer) log.refused_lines += peer->refused();
    peer.reset();
  }

  LinkMode mode() const { return robot.settings_.asks ? LinkMode::ask : LinkMode::push; }

  /// The next line of the station. A greeting with another session starts anew. With the same one, over a new
  /// connection, the robot repeats DONE for what it finished meanwhile.
  std::optional<StationLine> listen() {
    while (peer) {
      auto line = peer->listen(robot.settings_.timeout);
      if (!line) return line;
      if (const auto* hello = std::get_if<Hello>(&*line)) {
        if (hello->session != memory.session())
          memory.begin_session(hello->session);
        else if (memory.newest_done() && !robot.settings_.asks)
          say(Done{memory.newest()});
        select_for(memory.newest());
        if (robot.settings_.asks) say(question());
        continue;
      }
      if (std::holds_alternative<Selected>(*line)) continue;
      refused_last = std::holds_alternative<Refusal>(*line);
      if (const auto* refusal = std::get_if<Refusal>(&*line)) {
        ++log.refused_lines, ++refusals;
        log.refusal = refusal->reason;
        if (refusals == 5 || !peer->is_open()) return std::nullopt;
        if (robot.settings_.asks) say(question());
        continue;
      }
      return line;
    }
    return std::nullopt;
  }

  /// Selects the set-up for the result after this one. The station changes over before it reads the next
  /// line.
  void select_for(uint64_t results) {
    const auto& setups = robot.settings_.setups;
    if (!setups.empty()) say(Select{setups[results % setups.size()]});
  }

  bool say(const RobotLine& line) { return peer && peer->say(line); }

  void go_to(const Part& part) {
    Arrival arrival{.result = part.number,
                    .index = part.index,
                    .name = part.name,
                    .sent = {part[Field::x].value_or(0), part[Field::y].value_or(0),
                             degrees(part[Field::angle].value_or(0))}};
    arrival.travel_s = distance(at.position(), arrival.sent.position()) / robot.settings_.speed_mm_s;
    std::this_thread::sleep_for(std::chrono::duration<double>(arrival.travel_s / robot.settings_.time_scale));
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
    arrival.truth = nearest->robot_from_part.position();
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
    if (head.number <= memory.newest()) {  // it came already: say so again, and do nothing twice
      ++log.repeats;
      return say(Ack{head.number}) && (!memory.newest_done() || say(Done{head.number}));
    }
    memory.take(head.number, parts);  // before it says that it has it
    ++log.results;
    if (head.setup > 0) log.result_setups.push_back(head.setup);
    truth_of(head.number);
    say(Ack{head.number});
    go_to_left();
    memory.finish(head.number);
    select_for(head.number);
    say(Done{head.number});
    return true;
  }

  void go_to_left() {
    while (!memory.left().empty()) {
      const Part part = memory.left().front();
      go_to(part);
      memory.went();
    }
  }

  /// What it was doing when it was switched off.
  void finish_left() {
    go_to_left();
    if (!robot.settings_.asks && memory.newest() > 0 && !memory.newest_done()) memory.finish(memory.newest());
  }

  /// Silent without a heartbeat, refusing all, or gone after a refusal: there is nothing to wait for.
  bool given_up() const { return refusals >= 5 || refused_last || (peer && peer->is_open()); }

  void run_pushed() {
    while (!log.over && connected()) {
      const auto line = listen();
      if (!line) {
        if (given_up()) return;
        continue;
      }
      if (std::holds_alternative<EndOfResults>(*line))
        log.over = true;
      else if (const auto* head = std::get_if<Result>(&*line)) {
        if (!take(*head) && peer) peer->close();
      }
    }
  }

  Next question() const {
    const auto& looks = robot.settings_.looks;
    if (looks.empty()) return {};
    return {RobotFromFlange(looks[std::min<size_t>(memory.newest(), looks.size() - 1)])};
  }

  void run_asking() {
    while (!log.over && connected()) {
      const auto line = listen();  // its greeting is answered with the first question
      if (!line) {
        if (given_up()) return;
        continue;
      }
      if (std::holds_alternative<EndOfResults>(*line))
        log.over = true;
      else if (const auto* none = std::get_if<None>(&*line))
        finish(none->number);
      else if (const auto* part = std::get_if<Part>(&*line))
        take_part(*part);
      if (!log.over) say(question());
    }
  }

  void take_part(const Part& part) {
    truth_of(part.number);
    const bool again =
        part.number < memory.asked() || (part.number == memory.asked() && part.index <= memory.newest_part());
    if (again)
      ++log.repeats;  // the acknowledgement got lost; it was gripped already
    else
      memory.take_part(part);
    say(Ack{part.number, part.index});
    go_to_left();
  }

  /// NONE closes a result: the next question is about the next picture.
  void finish(uint64_t number) {
    truth_of(number);
    if (number > memory.newest()) memory.finish(number), ++log.results;
    say(Ack{number});
    select_for(number);
  }
};

SimulatedRobot::SimulatedRobot(RobotSettings settings, RobotTruth truth)
    : settings_(std::move(settings)), truth_(std::move(truth)) {
  if (!(settings_.speed_mm_s >= 1 && settings_.speed_mm_s <= 100000))
    fail_argument(fmt::format("robot: a speed of {} mm/s; from 1 to 100000", settings_.speed_mm_s));
  if (!(settings_.time_scale >= 1 && settings_.time_scale <= 1e6))
    fail_argument(fmt::format("robot: time scale {} must be from 1 to 1000000", settings_.time_scale));
  if (settings_.listens) listener_.emplace(settings_.address);
}

Address SimulatedRobot::address() const { return listener_ ? listener_->address() : settings_.address; }

RobotLog SimulatedRobot::run() {
  Session session(*this);
  session.finish_left();
  if (settings_.asks)
    session.run_asking();
  else
    session.run_pushed();
  session.end_connection();
  for (const auto& [result, parts] : session.left) session.log.left_lying += static_cast<int>(parts.size());
  return session.log;
}

}  // namespace heron
