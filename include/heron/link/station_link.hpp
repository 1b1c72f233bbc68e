#pragma once
#include <optional>
#include <string>
#include <vector>

#include "heron/link/line_socket.hpp"
#include "heron/link/text_protocol.hpp"

namespace heron {

/// How a station reaches its robot.
struct LinkSettings {
  bool listens = false;  ///< waits for the robot to connect, instead of connecting to it
  Address address;
  LineSocket::Duration patience{5000};     ///< for a robot that is not there, or is gone in the middle
  LineSocket::Duration acknowledge{2000};  ///< for the acknowledgement of one result, before it is sent again
  LineSocket::Duration finish{60000};      ///< for a robot to report that it is done with a result
};

/// The station's end of the robot text protocol: greets, numbers, waits for acknowledgements, sends again
/// after a lost connection, and beats once a second while it waits. Used by one thread.
class StationLink {
 public:
  /// Connects, or listens and waits for the robot. Throws Error{no_connection} when nobody is there within
  /// the patience.
  explicit StationLink(const LinkSettings& settings);

  /// Sends one result and waits until the robot acknowledged it; again over a new connection when the old one
  /// breaks or stays silent, three times in all. Throws Error{no_connection} when it was not acknowledged:
  /// the message names the result, so nothing is lost unsaid. `age_ms` is the time since the picture was
  /// taken.
  void deliver(uint64_t number, const std::vector<text_protocol::Part>& parts, int64_t age_ms);
  /// Waits for DONE of that result; false when the robot does not say it in time or goes away.
  bool wait_done(uint64_t number);

  /// Waits for the robot's next question, through lost connections. Throws Error{no_connection} when it is
  /// gone longer than the patience.
  text_protocol::Next wait_next(uint64_t newest);
  /// Answers a question and waits for its acknowledgement; like `deliver`, but a lost answer is not sent
  /// again: the robot asks again. False when it was not acknowledged.
  bool answer(const text_protocol::StationLine& line, uint64_t number);

  /// Tells the robot why its last question has no answer.
  void refuse(const std::string& reason) { say(text_protocol::Sorry{reason}); }
  /// Says that no result will follow. Failing is no harm: the connection ends all the same.
  void farewell(uint64_t newest);
  /// Where it listens, when it does.
  Address address() const { return listener_ ? listener_->address() : settings_.address; }
  /// Lines that were not understood, and results that had to be sent again.
  int refused_lines() const { return refused_; }
  int repeats() const { return repeats_; }

 private:
  template <class Accept>
  bool wait_for(const Accept& accept, LineSocket::Duration timeout, uint64_t newest);
  void reconnect();
  bool say(const text_protocol::StationLine& line);

  LinkSettings settings_;
  std::optional<LineListener> listener_;
  std::optional<LineSocket> socket_;
  std::string session_;
  int refused_ = 0, refused_of_peer_ = 0, repeats_ = 0;
};

}  // namespace heron
