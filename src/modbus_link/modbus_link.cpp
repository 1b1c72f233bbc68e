#include "heron/modbus_link/modbus_link.hpp"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <modbus/modbus.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>
#include <sys/time.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <condition_variable>
#include <cstring>
#include <mutex>
#include <thread>

#include "heron/base/error.hpp"
#include "link/selector.hpp"
#include "link/trace.hpp"

namespace heron {
namespace modbus_server {

struct FreeContext {
  void operator()(modbus_t* m) const { modbus_free(m); }
};
struct FreeMapping {
  void operator()(modbus_mapping_t* m) const { modbus_mapping_free(m); }
};

class Socket {
 public:
  explicit Socket(int fd) : fd_(fd) {}
  Socket(Socket&& o) noexcept : fd_(std::exchange(o.fd_, -1)) {}
  Socket& operator=(Socket&& o) noexcept {
    std::swap(fd_, o.fd_);
    return *this;
  }
  ~Socket() {
    if (fd_ >= 0) close(fd_);
  }
  int fd() const { return fd_; }

 private:
  int fd_;
};

using Clock = std::chrono::steady_clock;

/// A connected controller, when it last sent a request, and since when it has sent half of one.
struct Controller {
  Socket socket;
  Clock::time_point asked = Clock::time_point::min();  ///< never: the first to go
  std::optional<Clock::time_point> half_since = {};
};

}  // namespace modbus_server

namespace {

using namespace modbus_server;

constexpr size_t most_controllers = 16;
constexpr int look_ms = 20;                     // between two looks at the heartbeat and the end
constexpr std::chrono::seconds half_wait{1};    // for the rest of a request
constexpr std::chrono::milliseconds slice{50};  // between two looks at stop

/// As the registers count results: 1 to 65535, and 1 again.
uint16_t counted_in_registers(uint64_t number) { return static_cast<uint16_t>(1 + (number - 1) % 65535); }

sockaddr_in address_of(const Address& address) {
  sockaddr_in in{};
  in.sin_family = AF_INET, in.sin_port = htons(address.port);
  if (inet_pton(AF_INET, address.host.c_str(), &in.sin_addr) != 1)
    fail_argument(
        fmt::format("link: '{}' is no IPv4 address; Modbus listens at one, such as 0.0.0.0", address.host));
  return in;
}

Socket listening(const Address& address) {
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

}  // namespace

struct ModbusLink::State {
  LinkSettings settings;
  RegisterMap map;
  const Work* stop;
  Socket listener;
  std::unique_ptr<modbus_t, FreeContext> context{modbus_new_tcp(nullptr, 0)};

  std::mutex mutex;  // of all below
  std::condition_variable changed;
  std::unique_ptr<modbus_mapping_t, FreeMapping> registers;
  LinkCounts counts;
  uint16_t asked = 0, selecting = 0;
  ModbusState shown = ModbusState::ready;
  bool held = false;
  std::vector<std::string> refused;  // fields whose values did not fit, each warned of once
  Trace trace;

  Selector selector;
  std::jthread server;  // the last member: it ends before the others go

  State(const LinkSettings& s, const RegisterMap& m, const Work* work)
      : settings(s), map(m), stop(work), listener(opened(s, m)), trace(s.trace, s.warn), selector(s.select) {
    int last = first_free_register;
    for (const RegisterValue& v : registers_of(map, SentReport{Report{}, 0, {}}))
      last = std::max(last, v.at + static_cast<int>(v.words.size()) - 1);
    registers.reset(modbus_mapping_new(0, last + 1, modbus_select + 1, last + 1));
    if (!registers || !context) throw std::bad_alloc();
    set(modbus_setup, static_cast<uint16_t>(settings.setup));
    server = std::jthread([this](const std::stop_token& over) { serve(over); });
  }

  static Socket opened(const LinkSettings& s, const RegisterMap& m) {
    m.require_valid();
    if (!s.listens)
      fail_argument("link: Modbus is served by the station; give listen, and let the controller connect");
    return listening(s.address);
  }

  bool stopped() const { return stop && stop->stopped(); }

  void serve(const std::stop_token& over) {
    std::vector<Controller> controllers;
    auto beat = Clock::now();
    while (!over.stop_requested()) {
      std::vector<pollfd> fds{{listener.fd(), POLLIN, 0}};
      // Half a request is there all the time: it is looked at again after the pause.
      for (const Controller& c : controllers)
        fds.push_back({c.socket.fd(), static_cast<short>(c.half_since ? 0 : POLLIN), 0});
      poll(fds.data(), fds.size(), look_ms);
      if (Clock::now() - beat >= std::chrono::seconds(1)) {
        beat = Clock::now();
        const std::lock_guard lock(mutex);
        ++registers->tab_input_registers[modbus_heartbeat];
      }
      show_selections();
      for (size_t i = fds.size(); i-- > 1;)  // of those that were looked at, the last first
        if ((fds[i].revents != 0 || controllers[i - 1].half_since) && !serve_one(controllers[i - 1]))
          controllers.erase(controllers.begin() + static_cast<std::ptrdiff_t>(i - 1));
      if (fds[0].revents != 0) admit(controllers);
    }
  }

  void admit(std::vector<Controller>& controllers) {
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

  enum class Request { whole, half, none };

  /// Whether a whole request has arrived; none of it is taken.
  static Request request_of(const Socket& socket) {
    constexpr size_t header = 6;  // its last two bytes say how many follow
    std::array<uint8_t, MODBUS_TCP_MAX_ADU_LENGTH> bytes{};
    const ssize_t count = recv(socket.fd(), bytes.data(), bytes.size(), MSG_PEEK | MSG_DONTWAIT);
    if (count <= 0) return count < 0 && (errno == EAGAIN || errno == EINTR) ? Request::half : Request::none;
    if (static_cast<size_t>(count) < header) return Request::half;
    const size_t whole = header + 256u * bytes[4] + bytes[5];
    if (bytes[2] != 0 || bytes[3] != 0 || whole > bytes.size()) return Request::none;  // another protocol
    return static_cast<size_t>(count) < whole ? Request::half : Request::whole;
  }

  /// One request; false when the connection ends.
  bool serve_one(Controller& controller) {
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
    if (written(modbus_ask) != ask) trace.noted(fmt::format("asked {}", written(modbus_ask)));
    if (written(modbus_acknowledged) != acknowledged)
      trace.noted(fmt::format("acknowledged {}", written(modbus_acknowledged)));
    if (written(modbus_select) != selecting) {
      selecting = written(modbus_select);
      if (selecting != 0) selector.want(selecting);
      trace.noted(fmt::format("selects set-up {}", selecting));
    }
    changed.notify_all();
    return sent >= 0;
  }

  void show_selections() {
    while (const auto done = selector.finished()) {
      const std::lock_guard lock(mutex);
      const auto setup = static_cast<uint16_t>(done->setup);
      if (done->answer.taken) set(modbus_setup, setup);
      set(modbus_refused_setup, done->answer.taken ? uint16_t{0} : setup);
      trace.noted(fmt::format("set-up {}: {}", setup, done->answer.taken ? "selected" : done->answer.reason));
      if (!done->answer.taken && settings.warn)
        settings.warn(fmt::format("the controller selected set-up {}: {}", setup, done->answer.reason));
      changed.notify_all();
    }
  }

  uint16_t written(int which) const { return registers->tab_registers[which]; }
  void set(int which, uint16_t value) { registers->tab_input_registers[which] = value; }
  void set(ModbusState now) { shown = now, show(); }
  /// A result that stands there may still be acknowledged while the station is held.
  void show() {
    const bool holds = held && shown != ModbusState::result;
    set(modbus_state, static_cast<uint16_t>(holds ? ModbusState::held : shown));
  }

  /// Waits under the lock until `is_true`; false after a stop or at the deadline.
  template <class Condition>
  bool await(std::unique_lock<std::mutex>& lock, Clock::time_point deadline, Condition is_true) {
    while (!is_true()) {
      if (stopped() || Clock::now() >= deadline) return false;
      changed.wait_for(lock, slice);
    }
    return true;
  }

  void put(const SentReport& sent) {
    for (const RegisterValue& v : registers_of(map, sent)) {
      std::copy(v.words.begin(), v.words.end(), registers->tab_input_registers + v.at);
      registers->tab_input_bits[v.at] = v.valid ? 1 : 0;
      if (v.refused.empty()) continue;
      trace.noted(v.refused);
      if (!settings.warn || std::find(refused.begin(), refused.end(), v.name) != refused.end()) continue;
      refused.push_back(v.name);
      settings.warn(v.refused + "; its bit says that it is not valid");
    }
    set(modbus_result, counted_in_registers(sent.report.number));
    set(ModbusState::result);
    trace.noted(fmt::format("result {} stands", counted_in_registers(sent.report.number)));
  }
};

ModbusLink::ModbusLink(const LinkSettings& settings, const RegisterMap& map, const Work* stop)
    : state_(std::make_unique<State>(settings, map, stop)) {}
ModbusLink::~ModbusLink() = default;

Delivery ModbusLink::deliver(const SentReport& sent) {
  State& s = *state_;
  Delivery delivery{.tries = 1};
  std::unique_lock lock(s.mutex);
  s.put(sent);
  const uint16_t number = counted_in_registers(sent.report.number);
  delivery.acknowledged = delivery.done = s.await(lock, Clock::now() + s.settings.finish,
                                                  [&] { return s.written(modbus_acknowledged) == number; });
  if (delivery.acknowledged)
    s.set(ModbusState::ready);
  else
    delivery.why = s.stopped()
                       ? fmt::format("link: stopped before result {} was acknowledged", sent.report.number)
                       : fmt::format(
                             "link: result {} was not acknowledged within {:.1f} s; the controller writes {} "
                             "to holding register {}",
                             sent.report.number, std::chrono::duration<double>(s.settings.finish).count(),
                             number, modbus_acknowledged);
  return delivery;
}

bool ModbusLink::wait_asked() {
  State& s = *state_;
  std::unique_lock lock(s.mutex);
  // What is asked after a selection is meant for the new set-up.
  const auto is_asked = [&] { return s.written(modbus_ask) != s.asked && !s.selector.busy(); };
  if (!s.await(lock, Clock::now() + s.settings.finish, is_asked)) {
    if (s.stopped()) return false;
    throw Error(
        ErrorCode::no_connection,
        fmt::format("link: no controller asked for {:.1f} s; it writes another number to holding register {}",
                    std::chrono::duration<double>(s.settings.finish).count(), modbus_ask));
  }
  s.asked = s.written(modbus_ask);
  s.set(ModbusState::working);
  return true;
}

Delivery ModbusLink::answer(const SentReport& sent) {
  State& s = *state_;
  Delivery delivery{.tries = 1};
  std::unique_lock lock(s.mutex);
  s.put(sent);
  s.set(modbus_answered, s.asked);
  const uint16_t number = counted_in_registers(sent.report.number);
  const auto asks_anew = [&] { return s.written(modbus_ask) != s.asked; };
  s.await(lock, Clock::now() + s.settings.acknowledge,
          [&] { return s.written(modbus_acknowledged) == number || asks_anew(); });
  delivery.acknowledged = delivery.done = s.written(modbus_acknowledged) == number;
  if (!delivery.acknowledged) {
    s.set(modbus_result, 0);  // nobody waits for it any more, and nobody may take it for new
    delivery.given_up = true;
    delivery.why =
        fmt::format("link: result {} was not acknowledged by the controller that asked", sent.report.number);
  }
  s.set(ModbusState::ready);
  return delivery;
}

void ModbusLink::hold(bool held) {
  const std::lock_guard lock(state_->mutex);
  state_->held = held;
  state_->show();
}

void ModbusLink::selected(int setup) {
  const std::lock_guard lock(state_->mutex);
  state_->set(modbus_setup, static_cast<uint16_t>(setup));
}

Address ModbusLink::address() const {
  sockaddr_in in{};
  socklen_t size = sizeof in;
  getsockname(state_->listener.fd(), reinterpret_cast<sockaddr*>(&in), &size);
  return {state_->settings.address.host, ntohs(in.sin_port)};
}
bool ModbusLink::open_to_all() const {
  return state_->settings.allowed.empty() && !state_->settings.address.host.starts_with("127.");
}
LinkCounts ModbusLink::counts() const {
  const std::lock_guard lock(state_->mutex);
  return state_->counts;
}

}  // namespace heron
