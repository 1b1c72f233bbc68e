#pragma once
#include <chrono>
#include <optional>
#include <string>
#include <thread>
#include <vector>

#include "heron/base/error.hpp"
#include "heron/link/station_link.hpp"
#include "patience.hpp"

// The robot's side of a link, played line by line.
namespace link_peers {

using namespace heron;
using namespace heron::text_protocol;
using namespace std::chrono_literals;

/// Waits that never expire; a test of a wait that does sets its own.
inline LinkSettings patient(const Address& address, LinkMode mode = LinkMode::push) {
  LinkSettings settings;
  settings.address = address, settings.mode = mode;
  settings.timeout = settings.acknowledge = settings.finish = patience;
  return settings;
}

inline LinkSettings listening(LinkMode mode = LinkMode::push) {
  LinkSettings settings = patient({"127.0.0.1", 0}, mode);
  settings.listens = true;
  // A port that is free now, so that robots can be started before the station.
  settings.address = LineListener({"127.0.0.1", 0}).address();
  return settings;
}

/// Reads lines until one starts with `kind`; empty when none comes.
inline std::string line_of(LineSocket& socket, const std::string& kind) {
  std::string line;
  while (socket.read(line, patience) == LineSocket::Wait::line)
    if (line.starts_with(kind)) return line;
  return "";
}

/// A robot's connection whose greeting is answered.
inline std::optional<LineSocket> greeted(LineListener& robot, const std::string& answer = "ROBOT 2 MODE push",
                                         LineSocket::Duration wait = patience) {
  auto socket = robot.accept(wait);
  if (socket && !line_of(*socket, "HERON").empty()) socket->write(answer);
  return socket;
}

inline LineSocket called(const Address& station, const std::string& answer = "ROBOT 2 MODE push") {
  for (int i = 0; i < 400; ++i) try {
      LineSocket socket = LineSocket::connect(station, patience);
      line_of(socket, "HERON");
      socket.write(answer);
      return socket;
    } catch (const Error&) {
      std::this_thread::sleep_for(50ms);
    }
  throw Error(ErrorCode::no_connection, "the station does not listen");
}

inline Part part(uint64_t number, int index, const std::string& name, double x, double y, double angle,
                 double score) {
  Part p{number, index, name};
  p[Field::x] = x, p[Field::y] = y, p[Field::angle] = angle, p[Field::score] = score;
  return p;
}

inline const std::vector<Part> two_parts{part(7, 1, "leaf", 1.25, -2.5, 30, 99.5),
                                         part(7, 2, "leaf", 3, 4, -170, 88)};

/// Acknowledges the next result and stays until the station is gone or ends.
inline void take_one_result(LineSocket& socket) {
  const std::string end = line_of(socket, "END");
  if (end.size() < 5) return;
  socket.write("ACK " + end.substr(4));
  line_of(socket, "END-OF-RESULTS");
}

}  // namespace link_peers
