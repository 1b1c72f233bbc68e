#include <arpa/inet.h>
#include <fmt/format.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>
#include <sys/time.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "heron/base/error.hpp"
#include "modbus_state.hpp"

namespace heron {
namespace {

using namespace modbus_wire;

constexpr size_t most_controllers = 16;
constexpr int look_ms = 20;                   // between two looks at the heartbeat and the end
constexpr std::chrono::seconds half_wait{1};  // for the rest of a request

sockaddr_in address_of(const Address& address) {
  sockaddr_in in{};
  in.sin_family = AF_INET, in.sin_port = htons(address.port);
  if (inet_pton(AF_INET, address.host.c_str(), &in.sin_addr) != 1)
    fail_argument(
        fmt::format("link: '{}' is no IPv4 address; Modbus listens at one, such as 0.0.0.0", address.host));
  return in;
}

enum class Request { whole, half, none };

/// Whether a whole request has arrived; none of it is taken.
Request request_of(const Socket& socket) {
  constexpr size_t header = 6;  // its last two bytes say how many follow
  std::array<uint8_t, MODBUS_TCP_MAX_ADU_LENGTH> bytes{};
  const ssize_t count = recv(socket.fd(), bytes.data(), bytes.size(), MSG_PEEK | MSG_DONTWAIT);
  if (count <= 0) return count < 0 && (errno == EAGAIN || errno == EINTR) ? Request::half : Request::none;
  if (static_cast<size_t>(count) < header) return Request::half;
  const size_t whole = header + 256u * bytes[4] + bytes[5];
  if (bytes[2] != 0 || bytes[3] != 0 || whole > bytes.size()) return Request::none;  // another protocol
  return static_cast<size_t>(count) < whole ? Request::half : Request::whole;
}

}  // namespace

Socket modbus_wire::listening(const Address& address) {
  const sockaddr_in in = address_of(address);
  Socket socket(::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0));
  const int yes = 1;
  setsockopt(socket.fd(), SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes);
  if (socket.fd() < 0 || bind(socket.fd(), reinterpret_cast<const sockaddr*>(&in), sizeof in) != 0 ||
      listen(socket.fd(), 64) != 0)
    throw Error(ErrorCode::no_connection,
                fmt::format("link: cannot listen at {}: {}", address.text(), std::strerror(errno)));
  return socket;
}

void ModbusLink::State::serve(const std::stop_token& over) {
  std::vector<Controller> controllers;
  auto last_beat = Clock::now();
  while (!over.stop_requested()) {
    std::vector<pollfd> fds{{listener.fd(), POLLIN, 0}};
    // Half a request is there all the time: it is looked at again after the pause.
    for (const Controller& c : controllers)
      fds.push_back({c.socket.fd(), static_cast<short>(c.half_since ? 0 : POLLIN), 0});
    ::poll(fds.data(), fds.size(), look_ms);
    beat(last_beat);
    show_selections();
    for (size_t i = fds.size(); i-- > 1;)  // of those that were looked at, the last first
      if ((fds[i].revents != 0 || controllers[i - 1].half_since) && !serve_one(controllers[i - 1]))
        controllers.erase(controllers.begin() + static_cast<std::ptrdiff_t>(i - 1));
    if (fds[0].revents != 0) admit(controllers);
  }
}

void ModbusLink::State::admit(std::vector<Controller>& controllers) {
  sockaddr_in from{};
  socklen_t size = sizeof from;
  Socket socket(accept4(listener.fd(), reinterpret_cast<sockaddr*>(&from), &size, SOCK_CLOEXEC));
  if (socket.fd() < 0) return;
  // One that asks and does not read its answers would hold up the rest: it is disconnected.
  const timeval answer_wait{0, 100000};
  setsockopt(socket.fd(), SOL_SOCKET, SO_SNDTIMEO, &answer_wait, sizeof answer_wait);
  std::array<char, INET_ADDRSTRLEN> text{};
  inet_ntop(AF_INET, &from.sin_addr, text.data(), text.size());
  const std::lock_guard lock(mutex);
  const bool local = (ntohl(from.sin_addr.s_addr) >> 24u) == 127;
  if (!settings.allows(text.data(), local)) {
    ++counts.turned_away;
    trace.noted(fmt::format("{} turned away: not allowed", text.data()));
    return;
  }
  if (controllers.size() >= most_controllers) {  // connections that a cut cable left behind, say
    const auto silent = std::min_element(controllers.begin(), controllers.end(),
                                         [](const auto& a, const auto& b) { return a.asked < b.asked; });
    controllers.erase(silent);
    ++counts.turned_away;
    trace.noted("too many are connected; the one that has been silent for longest is disconnected");
  }
  ++counts.connections;
  trace.noted(fmt::format("{} connected", text.data()));
  controllers.push_back({std::move(socket)});
}

/// One request; false when the connection ends.
bool ModbusLink::State::serve_one(Controller& controller) {
  const Request there = request_of(controller.socket);
  if (there == Request::none) return false;
  if (there == Request::half) {
    if (!controller.half_since) controller.half_since = Clock::now();
    return Clock::now() - *controller.half_since < half_wait;
  }
  controller.half_since.reset(), controller.asked = Clock::now();
  std::array<uint8_t, MODBUS_TCP_MAX_ADU_LENGTH> request{};
  modbus_set_socket(context.get(), controller.socket.fd());
  const int size = modbus_receive(context.get(), request.data());
  if (size == 0) return true;
  if (size < 0) return false;
  const std::lock_guard lock(mutex);
  const uint16_t ask = written(modbus_ask), acknowledged = written(modbus_acknowledged);
  const int sent = modbus_reply(context.get(), request.data(), size, registers.get());
  take_written(ask, acknowledged);
  return sent >= 0;
}

}  // namespace heron
