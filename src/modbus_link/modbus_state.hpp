#pragma once
#include <modbus/modbus.h>
#include <unistd.h>

#include <array>
#include <chrono>
#include <condition_variable>
#include <mutex>
#include <thread>

#include "heron/modbus_link/modbus_link.hpp"
#include "link/selector.hpp"
#include "link/trace.hpp"

namespace heron {
namespace modbus_wire {

struct FreeContext {
  void operator()(modbus_t* m) const { modbus_free(m); }
};
struct FreeMapping {
  void operator()(modbus_mapping_t* m) const { modbus_mapping_free(m); }
};
using Context = std::unique_ptr<modbus_t, FreeContext>;

class Socket {
 public:
  explicit Socket(int fd = -1) : fd_(fd) {}
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

/// As the registers count results: 1 to 65535, and 1 again.
inline uint16_t counted_in_registers(uint64_t number) {
  return static_cast<uint16_t>(1 + (number - 1) % 65535);
}

/// Waits for controllers. Throws Error{no_connection} when the address is taken or not ours.
Socket listening(const Address& address);

}  // namespace modbus_wire

/// The registers of both sides as the station knows them. Its thread serves them to controllers that connect
/// (modbus_server.cpp), or keeps them the same in the controller that it connects to (modbus_client.cpp).
struct ModbusLink::State {
  using Clock = modbus_wire::Clock;

  LinkSettings settings;
  RegisterMap map;
  const Work* stop;
  modbus_wire::Socket listener;  ///< of a server
  modbus_wire::Context context;

  std::mutex mutex;  ///< of all below
  std::condition_variable changed;
  std::unique_ptr<modbus_mapping_t, modbus_wire::FreeMapping> registers;
  LinkCounts counts;
  bool known = true;  ///< false for a client that has not read yet what the controller holds
  uint16_t asked = 0, selecting = 0;
  ModbusState shown = ModbusState::ready;
  bool held = false;
  std::vector<std::string> refused;  ///< fields whose values did not fit, each warned of once
  std::string trouble;               ///< why a client is not connected
  Trace trace;

  Selector selector;
  std::jthread thread;  ///< the last member: it ends before the others go

  State(const LinkSettings& s, const RegisterMap& m, const Work* work);
  bool stopped() const { return stop && stop->stopped(); }

  // A server's.
  void serve(const std::stop_token& over);
  void admit(std::vector<modbus_wire::Controller>& controllers);
  bool serve_one(modbus_wire::Controller& controller);

  // A client's.
  void poll(const std::stop_token& over);
  bool connect();
  bool first_read();
  bool exchange(std::vector<uint16_t>& sent);
  bool write(const std::vector<uint16_t>& image, int from, int count);
  std::vector<uint16_t> image();

  // Of both.
  void beat(Clock::time_point& last);
  /// Notes what the controller wrote since `before`. Under the lock.
  void take_written(uint16_t ask, uint16_t acknowledged);
  void show_selections();
  int controllers_register(int which) const {
    return map.controller ? map.controller->controller_at + which : which;
  }
  std::string trouble_text() const { return trouble.empty() ? trouble : "; not connected: " + trouble; }
  uint16_t written(int which) const { return registers->tab_registers[which]; }
  void set(int which, uint16_t value) { registers->tab_input_registers[which] = value; }
  void set(ModbusState now) { shown = now, show(); }
  void show();
  void put(const SentReport& sent);

  /// Waits under the lock until `is_true`; false after a stop or at the deadline.
  template <class Condition>
  bool await(std::unique_lock<std::mutex>& lock, Clock::time_point deadline, Condition is_true) {
    constexpr std::chrono::milliseconds slice{50};  // between two looks at stop
    while (!is_true()) {
      if (stopped() || Clock::now() >= deadline) return false;
      changed.wait_for(lock, slice);
    }
    return true;
  }
};

}  // namespace heron
