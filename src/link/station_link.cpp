#include "heron/link/station_link.hpp"

#include <fmt/format.h>

#include <random>
#include <thread>

#include "heron/base/error.hpp"

namespace heron {
namespace {

using namespace text_protocol;
using Clock = std::chrono::steady_clock;

constexpr int most_tries = 3;
constexpr int most_refused = 50;  // a peer that talks something else altogether
constexpr LineSocket::Duration beat_pause{1000};

std::string new_session() {
  std::random_device random;
  return fmt::format("{:08x}", random());
}

}  // namespace

StationLink::StationLink(const LinkSettings& settings) : settings_(settings), session_(new_session()) {
  if (settings_.listens) listener_.emplace(settings_.address);
  reconnect();
}

void StationLink::reconnect() {
  socket_.reset();
  refused_of_peer_ = 0;
  const auto deadline = Clock::now() + settings_.patience;
  std::string why = "it did not connect";
  while (!socket_) {
    const auto left = std::chrono::duration_cast<LineSocket::Duration>(deadline - Clock::now());
    if (left.count() <= 0)
      throw Error(
          ErrorCode::no_connection,
          fmt::format(
              "link: no robot {} {} within {:.1f} s ({}); is it switched on, and is the address right?",
              listener_ ? "came to" : "at", address().text(),
              static_cast<double>(settings_.patience.count()) / 1000, why));
    if (listener_) {
      if (auto peer = listener_->accept(left)) socket_.emplace(std::move(*peer));
    } else {
      try {
        socket_.emplace(LineSocket::connect(settings_.address, left));
      } catch (const Error& error) {
        why = error.what();
        std::this_thread::sleep_for(std::min(left, LineSocket::Duration(100)));
      }
    }
    if (socket_ && !socket_->write(encode(StationLine(Hello{version, session_})))) socket_.reset();
  }
}

bool StationLink::say(const StationLine& line) { return socket_ && socket_->write(encode(line)); }

template <class Accept>
bool StationLink::wait_for(const Accept& accept, LineSocket::Duration timeout, uint64_t newest) {
  const auto deadline = Clock::now() + timeout;
  auto next_beat = Clock::now() + beat_pause;
  std::string text;
  while (socket_ && socket_->is_open() && Clock::now() < deadline) {
    const auto until = std::min(deadline, next_beat);
    const auto slice = std::max(LineSocket::Duration(1),
                                std::chrono::duration_cast<LineSocket::Duration>(until - Clock::now()));
    const LineSocket::Wait wait = socket_->read(text, slice);
    if (wait == LineSocket::Wait::closed) return false;
    if (wait == LineSocket::Wait::line) {
      const Parsed<RobotLine> parsed = parse_robot_line(text);
      if (!parsed.line) {
        ++refused_;
        if (++refused_of_peer_ > most_refused) socket_->close();
        say(Sorry{parsed.error});
      } else if (accept(*parsed.line)) {
        return true;
      }
    }
    if (Clock::now() >= next_beat) {
      say(Beat{newest});
      next_beat = Clock::now() + beat_pause;
    }
  }
  return false;
}

void StationLink::deliver(uint64_t number, const std::vector<Part>& parts, int64_t age_ms) {
  const auto begun = Clock::now();
  for (int attempt = 0; attempt < most_tries; ++attempt) {
    if (!socket_ || !socket_->is_open()) reconnect();
    if (attempt > 0) ++repeats_;
    const int64_t waited =
        std::chrono::duration_cast<std::chrono::milliseconds>(Clock::now() - begun).count();
    // In one go: the robot wakes up once.
    std::string lines =
        encode(StationLine(Result{number, static_cast<int>(parts.size()), age_ms + waited, attempt > 0}));
    for (const Part& part : parts) lines += "\n" + encode(StationLine(part));
    lines += "\n" + encode(StationLine(End{number}));
    const bool sent = socket_ && socket_->write(lines);
    const auto acknowledged = [&](const RobotLine& line) {
      const auto* ack = std::get_if<Ack>(&line);
      return ack && ack->number == number;
    };
    if (sent && wait_for(acknowledged, settings_.acknowledge, number)) return;
    // A peer that is there but silent is as good as gone: begin anew, so that both sides know where they
    // stand.
    if (socket_) socket_->close();
  }
  throw Error(
      ErrorCode::no_connection,
      fmt::format(
          "link: result {} was sent {} times to {} and never acknowledged; does the robot answer `ACK {}`?",
          number, most_tries, address().text(), number));
}

bool StationLink::wait_done(uint64_t number) {
  return wait_for(
      [&](const RobotLine& line) {
        const auto* done = std::get_if<Done>(&line);
        return done && done->number == number;
      },
      settings_.finish, number);
}

Next StationLink::wait_next(uint64_t newest) {
  auto gone_since = Clock::now();
  for (;;) {
    if (!socket_ || !socket_->is_open()) reconnect();
    Next next;
    const bool asked = wait_for(
        [&](const RobotLine& line) {
          const auto* question = std::get_if<Next>(&line);
          if (question) next = *question;
          return question != nullptr;
        },
        settings_.finish, newest);
    if (asked) return next;
    if (socket_ && socket_->is_open())
      throw Error(ErrorCode::no_connection,
                  fmt::format("link: the robot at {} is connected but asked nothing for {:.0f} s",
                              address().text(), static_cast<double>(settings_.finish.count()) / 1000));
    if (Clock::now() - gone_since > 10 * settings_.patience)
      throw Error(ErrorCode::no_connection,
                  fmt::format("link: the robot at {} comes and goes without asking", address().text()));
  }
}

bool StationLink::answer(const StationLine& line, uint64_t number) {
  return say(line) && wait_for(
                          [&](const RobotLine& reply) {
                            const auto* ack = std::get_if<Ack>(&reply);
                            return ack && ack->number == number;
                          },
                          settings_.acknowledge, number);
}

void StationLink::farewell(uint64_t newest) { say(Over{newest}); }

}  // namespace heron
