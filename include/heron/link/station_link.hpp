#pragma once
#include <algorithm>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "heron/link/line_socket.hpp"
#include "heron/link/text_protocol.hpp"

namespace heron {

/// What became of a command.
struct CommandAnswer {
  bool taken = false;
  std::string reason = {};  ///< where it was not
};

/// How a station reaches its robot.
struct LinkSettings {
  bool listens = false;  ///< waits for the robot to connect, instead of connecting to it
  Address address;
  LinkMode mode = LinkMode::push;
  text_protocol::Fields fields = text_protocol::default_fields();  ///< sent for each part, in this order
  std::string token = {};                  ///< a word that the robot must know; empty: none is asked for
  std::vector<std::string> allowed = {};   ///< IP addresses that may connect beside this machine; empty: all
  LineSocket::Duration timeout{5000};      ///< for a robot that is not there, or is gone in the middle
  LineSocket::Duration acknowledge{2000};  ///< for the answer to the greeting, and for the acknowledgement of
                                           ///< one result before it is sent again
  LineSocket::Duration finish{60000};      ///< for a robot to report that it is done, or to ask
  std::string session = {};                ///< the greeting's; empty: a new one. Numbers go on within it
  uint64_t newest = 0;                     ///< the newest result of that session
  int setup = 0;                           ///< selected when the link opens; 0: there is only one
  /// Selects a set-up, from a thread of the link's own; it takes as long as loading. Where it is empty,
  /// selecting is refused.
  std::function<CommandAnswer(int setup)> select = {};
  std::string trace = {};  ///< a file to which every line is appended with its time
  /// Called at once with what a person at the station should know: why a robot was turned away, a line that
  /// was refused, a trace that cannot be written.
  std::function<void(const std::string&)> warn = {};

  /// Whether a peer at this IP address may connect; `local`: it is this machine.
  bool allows(const std::string& ip, bool local) const {
    return local || allowed.empty() || std::find(allowed.begin(), allowed.end(), ip) != allowed.end();
  }
};

/// What became of one result.
struct Delivery {
  bool acknowledged = false;
  bool done = false;      ///< the robot reported that it finished
  bool given_up = false;  ///< nobody waits for it any more; a station goes on with the next
  int tries = 0;          ///< how often it was begun to be sent
  std::string why = {};   ///< where it was not acknowledged
};

struct LinkCounts {
  int connections = 0;    ///< robots that answered the greeting
  int turned_away = 0;    ///< peers that did not, or were not allowed
  int repeats = 0;        ///< results or answers that had to be sent again
  int refused_lines = 0;  ///< lines that were not understood or had no place
};

/// The station's end of the robot text protocol: greets, numbers, waits for acknowledgements, sends again
/// after a lost connection, and sends a heartbeat once a second, from a thread of its own while the caller is
/// busy. A peer counts as the robot once it has answered the greeting; when it listens, a robot
/// that comes anew takes the place of the one before. Every wait ends within half a second of a stop.
/// Used by one thread at a time.
class StationLink {
 public:
  /// Opens the port when it listens, and waits for the robot. Throws Error{no_connection} when none answers
  /// the greeting within the timeout; the message names what the last peer did wrong. A robot that the
  /// station connects to and whose mode, version or token is another ends the wait at once.
  explicit StationLink(const LinkSettings& settings, const Work* stop = nullptr);
  StationLink(StationLink&&) noexcept;
  StationLink& operator=(StationLink&&) noexcept;
  ~StationLink();

  /// Sends one result and waits until the robot acknowledged it; again over a new connection when the old one
  /// breaks or stays silent, three times in all. Of `result`, its age is the time since the picture was
  /// taken, `again` says that an earlier run may have sent it, and its count is that of `parts`.
  [[nodiscard]] Delivery deliver(text_protocol::Result result, const std::vector<text_protocol::Part>& parts);
  /// Waits for DONE of that result, through lost connections; false when the robot does not say it in time.
  bool wait_done(uint64_t number);

  /// Waits for the robot's next question, through lost connections; nothing after a stop. Throws
  /// Error{no_connection} when it is gone longer than the timeout, or asks nothing for too long.
  std::optional<text_protocol::Next> wait_next(uint64_t newest);
  /// Answers the question that was heard last with the first part, and each further question with the same
  /// part until its acknowledgement came, then with the next; after the last with NONE. Returns when NONE is
  /// acknowledged, or when the robot is gone or asks nothing for too long.
  [[nodiscard]] Delivery answer(uint64_t number, const std::vector<text_protocol::Part>& parts);

  /// Tells the robot why its last question has no answer.
  void refuse(const std::string& reason);
  /// Says from now on, instead of heartbeats, that no result will come until it is released. From any thread.
  void hold(bool held);
  /// Says that no result will follow. Failing is no harm: the connection ends all the same.
  void farewell(uint64_t newest);
  /// Where it listens, when it does.
  Address address() const;
  /// Whether it listens where other machines may connect, with neither a list of addresses nor a token.
  bool open_to_all() const;
  LinkCounts counts() const;

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace heron
