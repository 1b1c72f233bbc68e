// A station that connects to a controller, whose memory the protocol library's own server holds.
#include <doctest/doctest.h>
#include <modbus/modbus.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <array>
#include <atomic>
#include <mutex>
#include <thread>

#include "heron/base/error.hpp"
#include "heron/modbus_link/modbus_link.hpp"
#include "support.hpp"

using namespace heron;
using namespace std::chrono_literals;
using support::contains;
using support::error_of;

namespace {

constexpr int station_at = 100, controller_at = 50;

/// A controller's holding registers behind Modbus TCP; its program reads and writes them between requests.
class ControllerMemory {
 public:
  explicit ControllerMemory(uint16_t port = 0) : registers_(modbus_mapping_new(0, 0, 400, 0)) {
    modbus_ = modbus_new_tcp("127.0.0.1", port);
    listener_ = modbus_tcp_listen(modbus_, 4);
    REQUIRE(listener_ >= 0);
    sockaddr_in in{};
    socklen_t size = sizeof in;
    getsockname(listener_, reinterpret_cast<sockaddr*>(&in), &size);
    port_ = ntohs(in.sin_port);
    server_ = std::jthread([this](const std::stop_token& over) { serve(over); });
  }
  ~ControllerMemory() {
    server_.request_stop(), server_.join();
    for (const int fd : peers_) close(fd);
    close(listener_);
    modbus_free(modbus_), modbus_mapping_free(registers_);
  }
  ControllerMemory(const ControllerMemory&) = delete;
  ControllerMemory& operator=(const ControllerMemory&) = delete;

  uint16_t port() const { return port_; }
  uint16_t station(int at) const { return read(station_at + at, 1)[0]; }
  std::vector<uint16_t> read(int at, int count) const {
    const std::lock_guard lock(mutex_);
    return {registers_->tab_registers + at, registers_->tab_registers + at + count};
  }
  void write(int which, uint16_t value) { set(controller_at + which, value); }
  void set(int at, uint16_t value) {
    const std::lock_guard lock(mutex_);
    registers_->tab_registers[at] = value;
  }
  bool await(int at, uint16_t value) const {
    for (int i = 0; i < 10000; ++i, std::this_thread::sleep_for(2ms))
      if (station(at) == value) return true;
    return false;
  }

 private:
  void serve(const std::stop_token& over) {
    while (!over.stop_requested()) {
      std::vector<pollfd> fds{{listener_, POLLIN, 0}};
      for (const int fd : peers_) fds.push_back({fd, POLLIN, 0});
      if (poll(fds.data(), fds.size(), 10) <= 0) continue;
      if (fds[0].revents != 0) peers_.push_back(accept(listener_, nullptr, nullptr));
      for (size_t i = fds.size(); i-- > 1;) {
        if (fds[i].revents == 0) continue;
        std::array<uint8_t, MODBUS_TCP_MAX_ADU_LENGTH> request{};
        modbus_set_socket(modbus_, fds[i].fd);
        const int size = modbus_receive(modbus_, request.data());
        const std::lock_guard lock(mutex_);
        if (size >= 0 && modbus_reply(modbus_, request.data(), size, registers_) >= 0) continue;
        close(fds[i].fd);
        peers_.erase(peers_.begin() + static_cast<std::ptrdiff_t>(i) - 1);
      }
    }
  }

  modbus_mapping_t* registers_;
  modbus_t* modbus_ = nullptr;
  int listener_ = -1;
  uint16_t port_ = 0;
  std::vector<int> peers_;
  mutable std::mutex mutex_;
  std::jthread server_;
};

LinkSettings connecting(uint16_t port, LinkMode mode) {
  LinkSettings settings;
  settings.address = {"127.0.0.1", port}, settings.mode = mode;
  settings.finish = 3s, settings.acknowledge = 1s;
  return settings;
}

RegisterMap places_map() {
  RegisterMap map;
  map.max_parts = 3;
  map.controller = ControllerRegisters{station_at, controller_at, 15};
  map.fields = {
      {.at = 10, .of = "count", .type = RegisterType::uint16},
      {.at = 20, .of = "x", .part = 1, .every = 70, .type = RegisterType::int32, .scale = 1000},
      {.at = 22, .of = "angle", .part = 1, .every = 70, .scale = 100},
  };
  return map;
}

Report report_at(uint64_t number, const std::vector<double>& x) {
  Report report;
  report.number = number;
  for (const double at : x) {
    ReportedPart part;
    part.robot = RobotPose{at, 0, 0, WorldAngle{45_deg}, {}};
    report.parts.push_back(part);
  }
  return report;
}

int32_t micrometres(const ControllerMemory& plc, int at) {
  const auto words = plc.read(station_at + at, 2);
  return static_cast<int32_t>(static_cast<uint32_t>(words[0]) << 16u | words[1]);
}

}  // namespace

TEST_CASE("a station writes its results into a controller that asks, each field with its bit") {
  ControllerMemory plc;
  ModbusLink link(connecting(plc.port(), LinkMode::ask), places_map());
  std::jthread program([&] {
    plc.write(modbus_ask, 41);
    REQUIRE(plc.await(modbus_answered, 41));
    CHECK(plc.station(modbus_state) == static_cast<uint16_t>(ModbusState::result));
    CHECK(plc.station(modbus_result) == 7);
    CHECK(plc.station(10) == 2);
    CHECK(micrometres(plc, 20) == -123457);
    CHECK(micrometres(plc, 90) == 4000);
    CHECK(plc.station(22) == 4500);
    // count, x of two parts and not of a third, the angle of the first and not of the second.
    CHECK(plc.station(15) == 0b0010111);
    plc.write(modbus_acknowledged, 7);
    CHECK(plc.await(modbus_state, static_cast<uint16_t>(ModbusState::ready)));
    const uint16_t beat = plc.station(modbus_heartbeat);
    CHECK(plc.await(modbus_heartbeat, static_cast<uint16_t>(beat + 1)));
  });
  REQUIRE(link.wait_asked());
  Report report = report_at(7, {-123.4566, 4});
  report.parts[1].detection.has_angle = false;
  const Delivery delivery = link.answer(sent_of(report, 0));
  CHECK(delivery.acknowledged);
  CHECK(link.counts().connections == 1);
  program.join();
  CHECK(link.address().port == plc.port());
  CHECK_FALSE(link.open_to_all());
}

TEST_CASE("what an earlier run left in the controller is neither asked nor acknowledged again") {
  ControllerMemory plc;
  plc.write(modbus_ask, 41), plc.write(modbus_acknowledged, 1), plc.set(station_at + modbus_answered, 41);
  {
    LinkSettings settings = connecting(plc.port(), LinkMode::ask);
    settings.finish = 300ms;
    ModbusLink link(settings, places_map());
    CHECK(contains(error_of([&] { link.wait_asked(); }),
                   "no controller asked for 0.3 s; it writes another number to holding register 50"));
  }
  {
    LinkSettings settings = connecting(plc.port(), LinkMode::push);
    settings.finish = 300ms;
    plc.write(modbus_acknowledged, 1);
    ModbusLink link(settings, places_map());
    const Report first = report_at(1, {5});
    CHECK_FALSE(link.deliver(sent_of(first, 0)).acknowledged);
  }
  // With a store numbers go on, and an acknowledgement that the station did not live to see counts.
  LinkSettings settings = connecting(plc.port(), LinkMode::push);
  settings.session = "7f3a90c1";
  plc.write(modbus_acknowledged, 8);
  ModbusLink link(settings, places_map());
  const Report left = report_at(8, {5});
  CHECK(link.deliver(sent_of(left, 0)).acknowledged);
}

TEST_CASE("a controller that restarts gets all again, and one that is not there is said") {
  std::optional<ControllerMemory> plc(std::in_place);
  const uint16_t port = plc->port();
  std::vector<std::string> warnings;
  std::mutex mutex;
  LinkSettings settings = connecting(port, LinkMode::push);
  settings.finish = 10s;
  settings.warn = [&](const std::string& what) {
    const std::lock_guard lock(mutex);
    warnings.push_back(what);
  };
  ModbusLink link(settings, places_map());
  std::jthread program([&] {
    REQUIRE(plc->await(modbus_result, 3));
    plc.reset();  // its memory is gone with it
    std::this_thread::sleep_for(300ms);
    plc.emplace(port);
    REQUIRE(plc->await(modbus_result, 3));
    CHECK(micrometres(*plc, 20) == 5000);
    CHECK(plc->station(15) == 0b10011);
    plc->write(modbus_acknowledged, 3);
  });
  const Report report = report_at(3, {5});
  CHECK(link.deliver(sent_of(report, 0)).acknowledged);
  program.join();
  CHECK(link.counts().connections == 2);
  plc.reset();
  settings.finish = 500ms;
  ModbusLink nobody(settings, places_map());
  const Delivery lost = nobody.deliver(sent_of(report, 0));
  CHECK_FALSE(lost.acknowledged);
  CHECK(contains(lost.why, "not connected: Connection refused"));
  const std::lock_guard lock(mutex);
  REQUIRE_FALSE(warnings.empty());
  CHECK(contains(warnings.back(), "no controller at 127.0.0.1:"));
}

TEST_CASE("a result's number never stands beside another result's fields") {
  ControllerMemory plc;
  ModbusLink link(connecting(plc.port(), LinkMode::push), places_map());
  std::atomic<int> seen = 0, torn = 0;
  std::jthread program([&](const std::stop_token& over) {
    uint16_t last = 0;
    while (!over.stop_requested()) {
      const auto words = plc.read(station_at, 170);  // at one instant of the controller's cycle
      const uint16_t number = words[modbus_result];
      if (number == 0) continue;
      for (const size_t at : {20u, 90u, 160u})
        torn += (static_cast<uint32_t>(words[at]) << 16u | words[at + 1]) != number * 1000u;
      seen += number != last, last = number;
      plc.write(modbus_acknowledged, number);
    }
  });
  constexpr int results = 60;
  for (int i = 1; i <= results; ++i) {
    const auto x = static_cast<double>(i);
    const Report report = report_at(static_cast<uint64_t>(i), {x, x, x});
    CHECK(link.deliver(sent_of(report, 0)).acknowledged);
  }
  program.request_stop(), program.join();
  CHECK(seen == results);
  CHECK(torn == 0);
}

TEST_CASE("a controller selects set-ups by its own register") {
  ControllerMemory plc;
  LinkSettings settings = connecting(plc.port(), LinkMode::ask);
  settings.setup = 1;
  settings.select = [](int setup) { return CommandAnswer{setup == 2, "there is no such set-up"}; };
  ModbusLink link(settings, places_map());
  REQUIRE(plc.await(modbus_setup, 1));
  plc.write(modbus_select, 2);
  CHECK(plc.await(modbus_setup, 2));
  plc.write(modbus_select, 9);
  CHECK(plc.await(modbus_refused_setup, 9));
  CHECK(plc.station(modbus_setup) == 2);
}

TEST_CASE("registers of a controller that do not fit are refused") {
  const auto refused = [](const std::function<void(RegisterMap&)>& change) {
    RegisterMap map = places_map();
    change(map);
    return error_of([&] { map.require_valid(); });
  };
  CHECK(contains(refused([](RegisterMap& m) { m.controller->valid_at = 20; }), "which holds 'x of part 1'"));
  CHECK(contains(refused([](RegisterMap& m) { m.controller->valid_at = 3; }), "they go from 10 to"));
  CHECK(contains(refused([](RegisterMap& m) { m.controller->controller_at = 150; }),
                 "lie among the station's"));
  CHECK(
      contains(refused([](RegisterMap& m) { m.controller->controller_at = 98; }), "lie among the station's"));
  CHECK(refused([](RegisterMap& m) { m.controller->controller_at = 97; }).empty());
  CHECK(contains(refused([](RegisterMap& m) { m.controller->station_at = 65500; }), "do not lie within"));
  CHECK(contains(refused([](RegisterMap& m) { m.controller->controller_at = -1; }), "do not lie within"));
  RegisterMap listening = places_map();
  LinkSettings settings;
  settings.listens = true;
  CHECK(contains(error_of([&] { ModbusLink(settings, listening); }), "for a station that connects"));
  listening.controller.reset(), settings.listens = false;
  CHECK(contains(error_of([&] { ModbusLink(settings, listening); }), "where its registers are"));
}
