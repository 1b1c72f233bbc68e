#include "heron/link/station_link.hpp"

#include <fmt/format.h>

#include <atomic>
#include <condition_variable>
#include <mutex>
#include <random>
#include <thread>
#include <utility>

#include "greeter.hpp"
#include "heron/base/error.hpp"
#include "selector.hpp"

namespace heron {
namespace {

using namespace text_protocol;
using Clock = std::chrono::steady_clock;
using Duration = LineSocket::Duration;

constexpr int max_tries = 3;
constexpr int max_refused = 50;  // within the time below, of a peer that talks something else altogether
constexpr std::chrono::seconds refused_time{10};
constexpr int max_shown = 3;
constexpr int max_losses = 20;  // of a robot that comes and goes and says nothing
constexpr Duration beat_pause{1000};
constexpr Duration slice{50};         // between two looks at stop, newcomers and the time
constexpr Duration settle_time{300};  // after a stop, for an answer that is on its way

std::string new_session() {
  std::random_device random;
  return fmt::format("{:08x}", random());
}

double seconds(Duration d) { return std::chrono::duration<double>(d).count(); }

}  // namespace

struct StationLink::State {
  LinkSettings settings;
  const Work* stop;
  Trace trace;
  Greeter greeter;
  LinkCounts counts;

  // One thread at a time uses the robot's socket: whoever waits for the robot, and between waits the thread
  // of the heartbeat.
  std::mutex mutex;
  std::optional<LineSocket> robot;
  uint64_t newest = 0;
  int shown_of_peer = 0;  // its refused lines
  int refused_in_a_row = 0;
  Clock::time_point refused_since{};
  int losses = 0;                    // of connections, since the robot last said something
  std::string heard;                 // the robot's last line
  std::optional<std::string> early;  // what it said while nobody waited for it
  Clock::time_point last_said{};
  Clock::time_point stopped_at{};

  std::atomic<bool> held = false;
  bool held_said = false;

  Selector selector;
  std::condition_variable_any ended;
  std::jthread heartbeat;  // the last member: it ends before the others go

  State(const LinkSettings& s, const Work* work)
      : settings(s),
        stop(work),
        trace(s.trace, s.warn),
        greeter(s, s.session.empty() ? new_session() : s.session, work),
        newest(s.newest),
        selector(s.select) {}

  void start_heartbeat() {
    heartbeat = std::jthread([this](const std::stop_token& over) {
      std::unique_lock lock(mutex);
      while (!over.stop_requested()) {
        take_early();
        beat();
        ended.wait_for(lock, over, Duration(100), [] { return false; });
      }
    });
  }

  bool stopped() const { return stop && stop->stopped(); }
  bool has_robot() const { return robot && robot->is_open(); }

  bool say(const std::string& lines, Duration timeout = Duration(2000)) {
    if (!has_robot()) return false;
    trace.said(lines);
    last_said = Clock::now();
    return robot->write(lines, timeout);
  }
  bool say(const StationLine& line) { return say(encode(line, settings.fields)); }

  /// While nobody waits for the robot it may select a set-up, and hears what is no line of a robot. Any other
  /// line, and what follows it, is left to whoever waits next.
  void take_early() {
    while (has_robot() && !early && robot->read(heard, Duration(0)) == LineSocket::Wait::line) {
      trace.heard(heard);
      const Parsed<RobotLine> parsed = parse_robot_line(heard);
      if (!parsed.line)
        refuse_line(parsed.error);
      else if (!take_selection(parsed))
        early = heard;
    }
  }

  bool take_selection(const Parsed<RobotLine>& parsed) {
    const auto* select = parsed.line ? std::get_if<Select>(&*parsed.line) : nullptr;
    if (select) selector.want(select->setup), losses = 0;
    return select != nullptr;
  }

  void answer_selections() {
    while (const auto done = selector.finished()) {
      if (done->answer.taken) {
        say(Selected{done->setup});
        continue;
      }
      if (settings.warn)
        settings.warn(fmt::format("the robot selected set-up {}: {}", done->setup, done->answer.reason));
      say(Refusal{done->answer.reason});
    }
  }

  /// Once a second, and at once when a person holds or releases the station.
  void beat() {
    answer_selections();
    const bool now = held;
    if (!has_robot() || (now == held_said && Clock::now() - last_said < beat_pause)) return;
    held_said = now;
    say(encode(now ? StationLine(Hold{newest}) : StationLine(Heartbeat{newest})), Duration(200));
  }

  /// The first few of a connection are shown; a peer that talks something else would fill the screen.
  void refuse_line(const std::string& reason) {
    ++counts.refused_lines;
    if (settings.warn && shown_of_peer++ < max_shown)
      settings.warn(fmt::format("a line of the robot was refused ({}): {}", reason, heard));
    say(StationLine(Refusal{reason}));
    if (Clock::now() - refused_since > refused_time) refused_in_a_row = 0, refused_since = Clock::now();
    if (++refused_in_a_row > max_refused) drop("fifty lines that were not understood");
  }

  void drop(const std::string& why) {
    if (!robot) return;
    trace.noted("connection ended: " + why);
    robot.reset(), early.reset();
    ++losses;
  }

  void admit(LineSocket socket) {
    if (robot) drop("a robot came anew");
    robot.emplace(std::move(socket));
    shown_of_peer = refused_in_a_row = 0;
    last_said = Clock::now();
    ++counts.connections;
  }

  /// False when no robot is there within the timeout, or after a stop.
  bool await_robot(std::string& why) {
    if (has_robot()) return true;
    drop("the robot is gone");
    const auto deadline = Clock::now() + settings.timeout;
    while (!stopped()) {
      const auto left = std::chrono::duration_cast<Duration>(deadline - Clock::now());
      if (left.count() <= 0 || greeter.hopeless()) {
        if (greeter.hopeless())
          why = fmt::format("link: the robot at {} cannot be used: {}", address().text(), greeter.why());
        else
          why = fmt::format(
              "link: no robot {} {} within {:.1f} s ({}); is it switched on, and is the address "
              "right?",
              settings.listens ? "came to" : "at", address().text(), seconds(settings.timeout),
              greeter.why());
        return false;
      }
      auto socket = greeter.look(std::min(left, slice), trace);
      if (socket) {
        admit(std::move(*socket));
        return true;
      }
    }
    why = "link: stopped while waiting for the robot";
    return false;
  }

  enum class Heard { line, lost, time_up };

  /// The robot's next line within the grammar, which stands in `heard` as well. `lost` when the connection is
  /// gone or another robot took its place: what was said on the old one may not have arrived.
  Heard hear(RobotLine& line, Clock::time_point deadline) {
    while (has_robot()) {
      const auto now = Clock::now();
      if (stopped()) {
        if (stopped_at == Clock::time_point{}) stopped_at = now;
        deadline = std::min(deadline, stopped_at + settle_time);
      }
      if (now >= deadline) return Heard::time_up;
      beat();
      if (greeter.listener())
        if (auto newcomer = greeter.look(Duration(0), trace)) {
          admit(std::move(*newcomer));
          return Heard::lost;
        }
      if (selector.busy()) {  // what is said after SELECT is meant for the new set-up
        std::this_thread::sleep_for(Duration(2));
        continue;
      }
      if (!read_line(deadline)) continue;
      const Parsed<RobotLine> parsed = parse_robot_line(heard);
      if (take_selection(parsed)) continue;
      if (parsed.line && !std::holds_alternative<Robot>(*parsed.line)) {
        line = *parsed.line;
        losses = 0;
        return Heard::line;
      }
      refuse_line(parsed.line ? "the greeting was answered already" : parsed.error);
    }
    return Heard::lost;
  }

  /// The robot's next line, into `heard`; false when none came within a moment.
  bool read_line(Clock::time_point deadline) {
    if (early) {
      heard = *std::exchange(early, std::nullopt);
      return true;
    }
    const auto left = std::chrono::duration_cast<Duration>(deadline - Clock::now()) + Duration(1);
    const LineSocket::Wait wait = robot->read(heard, std::clamp(left, Duration(1), slice));
    // After a stop a read no longer waits; what settles is waited for here.
    if (stopped() && wait == LineSocket::Wait::timeout) std::this_thread::sleep_for(Duration(5));
    if (wait != LineSocket::Wait::line) return false;
    trace.heard(heard);
    return true;
  }

  Address address() const { return greeter.listener() ? greeter.listener()->address() : settings.address; }
};

StationLink::StationLink(const LinkSettings& settings, const Work* stop)
    : state_(std::make_unique<State>(settings, stop)) {
  std::string why;
  if (!state_->await_robot(why) && !state_->stopped()) throw Error(ErrorCode::no_connection, why);
  state_->start_heartbeat();
}
StationLink::StationLink(StationLink&&) noexcept = default;
StationLink& StationLink::operator=(StationLink&&) noexcept = default;
StationLink::~StationLink() = default;

Delivery StationLink::deliver(Result head, const std::vector<Part>& parts) {
  State& s = *state_;
  const uint64_t number = head.number;
  const int64_t age_ms = head.age_ms;
  head.count = static_cast<int>(parts.size());
  const std::lock_guard lock(s.mutex);
  const auto begun = Clock::now();
  s.newest = number;
  Delivery delivery;
  while (delivery.tries < max_tries) {
    if (!s.await_robot(delivery.why)) return delivery;
    if (++delivery.tries > 1) ++s.counts.repeats;
    const int64_t waited =
        std::chrono::duration_cast<std::chrono::milliseconds>(Clock::now() - begun).count();
    // In one go: the robot wakes up once.
    head.age_ms = age_ms + waited, head.again = head.again || delivery.tries > 1;
    s.say(encode_result(head, parts, s.settings.fields));
    const auto deadline = Clock::now() + s.settings.acknowledge;
    RobotLine line;
    State::Heard heard = State::Heard::line;
    while ((heard = s.hear(line, deadline)) == State::Heard::line) {
      if (const auto* ack = std::get_if<Ack>(&line)) {
        if (ack->number == number && ack->index == 0) {
          s.refused_in_a_row = 0;
          delivery.acknowledged = true;
          return delivery;
        }
        if (ack->number >= number) s.refuse_line(fmt::format("result {} wants ACK {}", number, number));
      } else if (const auto* done = std::get_if<Done>(&line)) {
        if (done->number >= number) s.refuse_line(fmt::format("ACK {} comes before DONE", number));
      } else {
        s.refuse_line("this station pushes its results; it is not asked");
      }
    }
    if (s.stopped()) {
      delivery.why = fmt::format("link: stopped before result {} was acknowledged", number);
      return delivery;
    }
    // A peer that is there but silent is as good as gone: begin anew, so that both sides know where they
    // stand.
    if (heard == State::Heard::time_up) s.drop("no acknowledgement");
  }
  delivery.why = fmt::format(
      "link: result {} was sent {} times to {} and never acknowledged; does the robot answer `ACK {}`?",
      number, max_tries, s.address().text(), number);
  return delivery;
}

bool StationLink::wait_done(uint64_t number) {
  State& s = *state_;
  const std::lock_guard lock(s.mutex);
  const auto deadline = Clock::now() + s.settings.finish;
  std::string why;
  while (Clock::now() < deadline && !s.stopped()) {
    if (!s.await_robot(why)) return false;
    RobotLine line;
    if (s.hear(line, deadline) != State::Heard::line) continue;
    const auto* done = std::get_if<Done>(&line);
    if (done && done->number == number) return true;
    const auto* ack = std::get_if<Ack>(&line);
    const bool repeated =
        (done && done->number < number) || (ack && ack->number <= number && ack->index == 0);
    if (!repeated) s.refuse_line(fmt::format("the station waits for DONE {}", number));
  }
  return false;
}

std::optional<Next> StationLink::wait_next(uint64_t newest) {
  State& s = *state_;
  const std::lock_guard lock(s.mutex);
  s.newest = newest;
  const auto deadline = Clock::now() + s.settings.finish;
  std::string why;
  while (Clock::now() < deadline) {
    if (!s.await_robot(why)) {
      if (s.stopped()) return std::nullopt;
      throw Error(ErrorCode::no_connection, why);
    }
    RobotLine line;
    const State::Heard heard = s.hear(line, deadline);
    if (heard == State::Heard::line) {
      if (const auto* question = std::get_if<Next>(&line)) {
        s.refused_in_a_row = 0;
        return *question;
      }
      const auto* ack = std::get_if<Ack>(&line);
      if (!ack || ack->number > newest)
        s.refuse_line(ack ? fmt::format("result {} was not sent yet", ack->number)
                          : "this station is asked with NEXT");
    } else if (s.losses > max_losses) {
      throw Error(ErrorCode::no_connection,
                  fmt::format("link: the robot at {} comes and goes without asking", s.address().text()));
    }
    if (s.stopped()) return std::nullopt;
  }
  throw Error(ErrorCode::no_connection,
              fmt::format("link: the robot at {} is connected but asked nothing for {:.0f} s",
                          s.address().text(), seconds(s.settings.finish)));
}

Delivery StationLink::answer(uint64_t number, const std::vector<Part>& parts) {
  State& s = *state_;
  const std::lock_guard lock(s.mutex);
  s.newest = number;
  Delivery delivery;
  size_t at = 0;               // the answer that waits for its acknowledgement
  std::optional<size_t> said;  // the last that was given
  const auto index_of = [&](size_t i) { return i < parts.size() ? parts[i].index : 0; };
  const auto say = [&] {
    if (said == at) ++s.counts.repeats;
    said = at;
    ++delivery.tries;
    s.say(at < parts.size() ? StationLine(parts[at]) : StationLine(None{number}));
  };
  say();
  for (auto deadline = Clock::now() + s.settings.finish; Clock::now() < deadline;) {
    if (!s.await_robot(delivery.why)) return delivery;
    RobotLine line;
    const State::Heard heard = s.hear(line, deadline);
    if (s.stopped() && heard != State::Heard::line) {
      delivery.why = fmt::format("link: stopped before result {} was acknowledged", number);
      return delivery;
    }
    if (heard != State::Heard::line) continue;
    deadline = Clock::now() + s.settings.finish;
    if (std::holds_alternative<Next>(line)) {
      say();
    } else if (const auto* ack = std::get_if<Ack>(&line); !ack) {
      s.refuse_line("this station is asked with NEXT, and answers are acknowledged with ACK");
    } else if (ack->number == number && ack->index == index_of(at) && said == at) {
      if (at++ == parts.size()) {
        delivery.acknowledged = true;
        return delivery;
      }
    } else if (ack->number >= number &&
               !(ack->number == number && ack->index > 0 && static_cast<size_t>(ack->index) <= at)) {
      // What was acknowledged already may be acknowledged again; all else was never sent.
      s.refuse_line(index_of(at) > 0 ? fmt::format("wanted: ACK {} {}", number, index_of(at))
                                     : fmt::format("wanted: ACK {}", number));
    }
  }
  delivery.why = fmt::format("link: the robot at {} asked for nothing more of result {} for {:.0f} s",
                             s.address().text(), number, seconds(s.settings.finish));
  return delivery;
}

void StationLink::refuse(const std::string& reason) {
  const std::lock_guard lock(state_->mutex);
  state_->refuse_line(reason);
}

void StationLink::farewell(uint64_t newest) {
  const std::lock_guard lock(state_->mutex);
  state_->say(StationLine(EndOfResults{newest}));
}

void StationLink::hold(bool held) { state_->held = held; }

Address StationLink::address() const { return state_->address(); }

bool StationLink::open_to_all() const {
  const auto& listener = state_->greeter.listener();
  return listener && !listener->is_local() && state_->settings.allowed.empty() &&
         state_->settings.token.empty();
}

LinkCounts StationLink::counts() const {
  LinkCounts counts = state_->counts;
  counts.turned_away = state_->greeter.turned_away();
  return counts;
}

}  // namespace heron
