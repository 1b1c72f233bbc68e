#pragma once
#include <functional>
#include <string>

#include "heron/link/line_socket.hpp"

namespace heron {

/// Reports to a broker; docs/outlets.md.
struct MqttSettings {
  Address broker{"127.0.0.1", 1883};
  std::string topic;               ///< what every topic begins with, as studio/tray
  std::string user = {};           ///< empty: none
  std::string password_file = {};  ///< holds the password in its first line
  std::string ca_file = {};        ///< certificates (PEM) that the broker's must stand on; empty: no TLS
  /// Called with what a person at the station should know, from another thread.
  std::function<void(const std::string&)> warn = {};
};

/// Reports, pictures and commands over HTTP; docs/outlets.md.
struct HttpSettings {
  Address listen{"127.0.0.1", 8080};
  std::string token = {};                  ///< that a request must carry; empty: none is asked for
  std::string certificate = {}, key = {};  ///< files (PEM); empty: no TLS
  std::function<void(const std::string&)> warn = {};
};

/// "" when topics may begin with this, else what is wrong with it.
std::string wrong_with_topic(const std::string& topic);

}  // namespace heron
