#include "greeter.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <thread>

#include "heron/base/error.hpp"

namespace heron {
namespace {

using namespace text_protocol;
using Duration = LineSocket::Duration;

constexpr size_t max_candidates = 16;
constexpr Duration call_pause{100}, longest_call{2000};

/// Takes as long for a token that is nearly right as for another.
bool same_token(const std::string& a, const std::string& b) {
  unsigned differs = a.size() == b.size() ? 0 : 1;
  for (size_t i = 0; i < a.size(); ++i)
    differs |= static_cast<unsigned char>(a[i] ^ (i < b.size() ? b[i] : '\0'));
  return differs == 0;
}

}  // namespace

Greeter::Greeter(const LinkSettings& settings, const std::string& session, const Work* stop)
    : settings_(settings),
      greeting_(encode(StationLine(Hello{version, session, settings.mode, settings.fields}))),
      stop_(stop) {
  if (settings_.listens) listener_.emplace(settings_.address);
}

std::optional<LineSocket> Greeter::look(Duration wait, Trace& trace) {
  const auto deadline = Clock::now() + wait;
  do {
    const auto left = std::chrono::duration_cast<Duration>(deadline - Clock::now());
    // With peers to listen to, none of them waits for long.
    const Duration pause = std::max(Duration(0), candidates_.empty() ? left : std::min(left, Duration(5)));
    if (!listener_)
      call(pause, trace);
    else if (auto peer = listener_->accept(pause, stop_))
      greet(std::move(*peer), trace);
    for (size_t i = 0; i < candidates_.size();) {
      const Answer answer = answer_of(candidates_[i], trace);
      if (answer == Answer::none) {
        ++i;
        continue;
      }
      LineSocket socket = std::move(candidates_[i].socket);
      candidates_.erase(candidates_.begin() + static_cast<std::ptrdiff_t>(i));
      if (answer == Answer::right) return socket;
    }
  } while (Clock::now() < deadline && !(stop_ && stop_->stopped()));
  return std::nullopt;
}

void Greeter::call(Duration wait, Trace& trace) {
  if (!candidates_.empty()) return;
  if (Clock::now() < next_call_) {
    std::this_thread::sleep_for(std::min(wait, call_pause));
    return;
  }
  try {
    greet(LineSocket::connect(settings_.address, longest_call, stop_), trace);
  } catch (const Error& error) {
    next_call_ = Clock::now() + call_pause;
    if (turned_away_ == 0) why_ = error.what();  // what a peer did wrong says more
  }
}

void Greeter::greet(LineSocket socket, Trace& trace) {
  if (!may_come(socket)) {
    turn_away(fmt::format("{} is not among the allowed addresses", socket.peer()), trace);
    return;
  }
  if (candidates_.size() == max_candidates) candidates_.erase(candidates_.begin());
  trace.noted(fmt::format("connected with {}", socket.peer()));
  trace.said(greeting_);
  if (socket.write(greeting_, Duration(200)))
    candidates_.push_back({std::move(socket), Clock::now() + settings_.acknowledge});
}

bool Greeter::may_come(const LineSocket& socket) const {
  return !settings_.listens || settings_.allows(socket.peer(), socket.peer_is_local());
}

Greeter::Answer Greeter::answer_of(Candidate& candidate, Trace& trace) {
  std::string line;
  const std::string wanted = fmt::format("ROBOT {} MODE {}", version, mode_word(settings_.mode));
  switch (candidate.socket.read(line, Duration(1))) {
    case LineSocket::Wait::timeout:
      if (Clock::now() < candidate.until) return Answer::none;
      candidate.socket.write(encode(StationLine(Refusal{"no answer to the greeting; wanted: " + wanted})),
                             Duration(200));
      turn_away(fmt::format("it connected and did not answer the greeting with `{}`", wanted), trace);
      return Answer::wrong;
    case LineSocket::Wait::closed:
      turn_away(fmt::format("it connected and went without answering the greeting with `{}`", wanted), trace);
      return Answer::wrong;
    case LineSocket::Wait::line:
      break;
  }
  trace.heard(line);
  const std::string wrong = wrong_with(line);
  if (wrong.empty()) return Answer::right;
  // A robot that answered and does not match will not match later; other words may be a banner or a slip.
  hopeless_ = !listener_ && line.starts_with("ROBOT ");
  if (settings_.warn && last_warning_ != wrong)
    settings_.warn("a robot was turned away: " + (last_warning_ = wrong));
  candidate.socket.write(encode(StationLine(Refusal{wrong})), Duration(200));
  turn_away(wrong, trace);
  return Answer::wrong;
}

std::string Greeter::wrong_with(const std::string& line) const {
  const Parsed<RobotLine> parsed = parse_robot_line(line);
  if (!parsed.line) return "the greeting was answered wrongly: " + parsed.error;
  const auto* robot = std::get_if<Robot>(&*parsed.line);
  if (!robot)
    return fmt::format("the greeting must be answered first, with ROBOT {} MODE {}", version,
                       mode_word(settings_.mode));
  if (robot->mode != settings_.mode)
    return fmt::format("the robot's mode is {} and the station's is {}; set both alike",
                       mode_word(robot->mode), mode_word(settings_.mode));
  if (!settings_.token.empty() && !same_token(robot->token, settings_.token))
    return robot->token.empty() ? "the station wants a token: ROBOT ... TOKEN word" : "the token is wrong";
  return {};
}

void Greeter::turn_away(const std::string& why, Trace& trace) {
  why_ = why;
  next_call_ = Clock::now() + call_pause;
  ++turned_away_;
  trace.noted("turned away: " + why);
}

}  // namespace heron
