#include "heron/link/line_link.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <thread>
#include <utility>

#include "heron/base/error.hpp"
#include "trace.hpp"

namespace heron {
namespace {

using Clock = std::chrono::steady_clock;
using Duration = LineSocket::Duration;

constexpr int most_sent = 3;            // times, of a result that is not acknowledged
constexpr Duration newcomer_pause{50};  // between two looks at stop and newcomers
constexpr int most_shown = 3;           // refused lines of a receiver

Duration left_until(Clock::time_point deadline) {
  return std::max(Duration(0), std::chrono::duration_cast<Duration>(deadline - Clock::now()));
}

}  // namespace

struct LineLink::State {
  LinkSettings settings;
  LineWriter writer;
  const Work* stop;
  Trace trace;
  std::optional<LineListener> listener;
  std::optional<LineSocket> peer;
  Clock::time_point next_call{};
  LinkCounts counts;
  int refused_of_peer = 0;
  std::string why = "nobody connected";
  bool asked_anew = false;  // while an acknowledgement was waited for

  State(const LinkSettings& s, const LineFormat& format, const Work* work)
      : settings(s), writer(format), stop(work), trace(s.trace, s.warn) {
    if (settings.mode == LinkMode::ask && format.ask.empty())
      fail_argument("mode is \"ask\": say with ask which line asks");
    if (settings.listens) listener.emplace(settings.address);
  }

  bool stopped() const { return stop && stop->stopped(); }
  bool has_peer() const { return peer && peer->is_open(); }

  void admit(LineSocket socket) {
    if (has_peer()) trace.noted("connection ended: a receiver came anew");
    trace.noted(fmt::format("connected with {}", socket.peer()));
    peer.emplace(std::move(socket));
    ++counts.connections, refused_of_peer = 0;
  }

  /// Takes in who connects, or calls, for at most `wait`.
  void look(Duration wait) {
    if (listener) {
      auto socket = listener->accept(wait, stop);
      if (!socket) return;
      if (settings.allows(socket->peer(), socket->peer_is_local())) return admit(std::move(*socket));
      why = fmt::format("{} is not among the allowed addresses", socket->peer());
      ++counts.turned_away;
      trace.noted("turned away: " + why);
      return;
    }
    if (has_peer()) return;
    if (Clock::now() < next_call) return std::this_thread::sleep_for(std::min(wait, newcomer_pause));
    try {
      admit(LineSocket::connect(settings.address, Duration(2000), stop));
    } catch (const Error& error) {
      next_call = Clock::now() + Duration(100), why = error.what();
    }
  }

  /// False when nobody is there within the timeout, or after a stop.
  bool await_peer() {
    const auto deadline = Clock::now() + settings.timeout;
    if (listener) look(Duration(0));  // who came last counts
    while (!has_peer() && !stopped()) {
      if (Clock::now() >= deadline) {
        why = fmt::format(
            "link: no receiver {} {} within {:.1f} s ({}); is it switched on, and is the address right?",
            settings.listens ? "came to" : "at", settings.address.text(),
            std::chrono::duration<double>(settings.timeout).count(), why);
        return false;
      }
      look(std::min(left_until(deadline), newcomer_pause));
    }
    if (!has_peer()) why = "link: stopped while waiting for the receiver";
    return has_peer();
  }

  void lose(const std::string& reason) {
    trace.noted("connection ended: " + reason);
    peer.reset();
  }

  bool send(const std::string& bytes) {
    const std::string text = bytes.substr(0, bytes.size() - 1);  // the socket ends each message with LF
    trace.said(text);
    if (peer->write(text)) return true;
    lose("the receiver is gone");
    return false;
  }

  /// The next line within `wait`; nothing when there is none, or another receiver came.
  std::optional<std::string> hear(Duration wait) {
    std::string line;
    switch (peer->read(line, wait)) {
      case LineSocket::Wait::line:
        trace.heard(line);
        if (!take_selection(line)) return line;
        break;
      case LineSocket::Wait::closed:
        lose("the receiver is gone");
        break;
      case LineSocket::Wait::timeout:
        break;
    }
    return std::nullopt;
  }

  /// A line that selects is answered at once: what is asked after it is meant for the new set-up.
  bool take_selection(const std::string& line) {
    const LineFormat& format = writer.format();
    const auto setup = format.select.empty() ? std::nullopt : setup_in(line, format.select);
    if (!setup) return false;
    const CommandAnswer answer =
        settings.select ? settings.select(*setup) : CommandAnswer{false, "this station has no set-ups"};
    if (!answer.taken && settings.warn)
      settings.warn(fmt::format("the receiver selected set-up {}: {}", *setup, answer.reason));
    send(with_setup(answer.taken ? format.selected : format.not_selected, *setup) + format.line_end);
    return true;
  }

  void refuse(const std::string& line, const std::string& wanted) {
    ++counts.refused_lines;
    if (settings.warn && refused_of_peer++ < most_shown)
      settings.warn(fmt::format("a line of the receiver was not understood: '{}'; it may send '{}'",
                                line.substr(0, 80), wanted));
  }

  bool acknowledged() {
    const std::string& wanted = writer.format().acknowledge;
    if (wanted.empty()) return true;
    const auto deadline = Clock::now() + settings.acknowledge;
    while (has_peer() && !stopped() && Clock::now() < deadline)
      if (const auto line = hear(std::min(left_until(deadline), newcomer_pause))) {
        if (*line == wanted) return true;
        if (settings.mode == LinkMode::ask && *line == writer.format().ask) {
          asked_anew = true;
          return false;
        }
        refuse(*line, wanted);
      }
    return false;
  }

  /// An acknowledgement that came late, of a result that was sent twice, is none of the next result.
  void pass_over_late_lines() {
    if (writer.format().acknowledge.empty()) return;
    while (has_peer() && hear(Duration(1))) {
    }
  }
};

LineLink::LineLink(const LinkSettings& settings, const LineFormat& format, const Work* stop)
    : state_(std::make_unique<State>(settings, format, stop)) {}
LineLink::~LineLink() = default;

std::string LineLink::bytes_of(const SentReport& sent) const {
  return state_->writer.write(sent) + state_->writer.format().line_end;
}

Delivery LineLink::deliver(const SentReport& sent) {
  Delivery delivery;
  state_->pass_over_late_lines();
  while (delivery.tries < most_sent && !state_->stopped()) {
    if (!state_->await_peer()) {
      delivery.why = state_->why;
      return delivery;
    }
    if (++delivery.tries > 1) ++state_->counts.repeats;
    if (state_->send(bytes_of(sent)) && state_->acknowledged()) {
      delivery.acknowledged = delivery.done = true;
      return delivery;
    }
  }
  delivery.why = state_->stopped() ? "link: stopped before the result was acknowledged"
                                   : fmt::format("link: result {} was sent {} times and not acknowledged",
                                                 sent.report.number, delivery.tries);
  return delivery;
}

bool LineLink::wait_asked() {
  State& s = *state_;
  const std::string& ask = s.writer.format().ask;
  const auto deadline = Clock::now() + s.settings.finish;
  if (std::exchange(s.asked_anew, false) && s.has_peer()) return true;
  while (!s.stopped()) {
    s.look(s.has_peer() ? Duration(0) : newcomer_pause);
    if (s.has_peer())
      if (const auto line = s.hear(newcomer_pause)) {
        if (*line == ask) return true;
        s.refuse(*line, ask);
      }
    if (Clock::now() >= deadline)
      throw Error(ErrorCode::no_connection,
                  fmt::format("link: nobody asked at {} for {:.1f} s ({})", address().text(),
                              std::chrono::duration<double>(s.settings.finish).count(),
                              s.has_peer() ? "connected, and silent" : s.why));
  }
  return false;
}

Delivery LineLink::answer(const SentReport& sent) {
  Delivery delivery{.tries = 1};
  if (state_->has_peer() && state_->send(bytes_of(sent)) && state_->acknowledged())
    delivery.acknowledged = delivery.done = true;
  else
    delivery.given_up = true,
    delivery.why =
        fmt::format("link: result {} was not acknowledged by the receiver that asked", sent.report.number);
  return delivery;
}

Address LineLink::address() const {
  return state_->listener ? state_->listener->address() : state_->settings.address;
}
bool LineLink::open_to_all() const {
  return state_->listener && !state_->listener->is_local() && state_->settings.allowed.empty();
}
LinkCounts LineLink::counts() const { return state_->counts; }

}  // namespace heron
