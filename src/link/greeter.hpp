#pragma once
#include <optional>
#include <string>
#include <vector>

#include "heron/link/station_link.hpp"
#include "trace.hpp"

namespace heron {

/// Finds the robot among whoever connects, or calls it: greets each peer, and lets in the first that answers
/// as it should. Scanners, health checks and connections of a robot that is gone never get further.
class Greeter {
 public:
  /// Throws Error{no_connection} when it listens and the address is taken.
  Greeter(const LinkSettings& settings, const std::string& session, const Work* stop);

  /// Looks around for at most `wait`; a robot when one answered.
  std::optional<LineSocket> look(LineSocket::Duration wait, Trace& trace);

  const std::optional<LineListener>& listener() const { return listener_; }
  /// Why the last peer was not let in.
  const std::string& why() const { return why_; }
  /// Whether waiting cannot help: the robot that was called answered, and its mode, version or token differs.
  bool hopeless() const { return hopeless_; }
  int turned_away() const { return turned_away_; }

 private:
  using Clock = std::chrono::steady_clock;
  struct Candidate {
    LineSocket socket;
    Clock::time_point until;
  };
  enum class Answer { none, right, wrong };

  void call(LineSocket::Duration wait, Trace& trace);
  void greet(LineSocket socket, Trace& trace);
  bool may_come(const LineSocket& socket) const;
  Answer answer_of(Candidate& candidate, Trace& trace);
  std::string wrong_with(const std::string& line) const;
  void turn_away(const std::string& why, Trace& trace);

  LinkSettings settings_;
  std::string greeting_;
  const Work* stop_;
  std::optional<LineListener> listener_;
  std::vector<Candidate> candidates_;
  Clock::time_point next_call_{};
  std::string why_ = "nobody connected";
  std::string last_warning_;
  bool hopeless_ = false;
  int turned_away_ = 0;
};

}  // namespace heron
