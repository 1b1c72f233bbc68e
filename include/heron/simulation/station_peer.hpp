#pragma once
#include <optional>
#include <string>

#include "heron/link/line_socket.hpp"
#include "heron/link/text_protocol.hpp"

namespace heron {

/// A robot's end of one connection with a station: answers the greeting, and reads in the fields that the
/// greeting named.
class StationPeer {
 public:
  StationPeer(LineSocket socket, LinkMode mode, std::string token = {});

  /// The next line that is no heartbeat, waiting for `timeout` from the last sign of life. Nothing when the
  /// station is silent or gone. The greeting is answered and handed on as well: another session starts anew.
  std::optional<text_protocol::StationLine> listen(LineSocket::Duration timeout);
  bool say(const text_protocol::RobotLine& line);
  bool is_open() const { return socket_.is_open(); }
  void close() { socket_.close(); }
  /// Lines that were not understood.
  int refused() const { return refused_; }

 private:
  LineSocket socket_;
  LinkMode mode_;
  std::string token_;
  text_protocol::Fields fields_ = text_protocol::default_fields();
  int refused_ = 0;
};

}  // namespace heron
