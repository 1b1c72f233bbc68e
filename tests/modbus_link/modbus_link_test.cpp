#include <doctest/doctest.h>
#include <modbus/modbus.h>
#include <sys/socket.h>

#include <array>
#include <thread>

#include "heron/base/error.hpp"
#include "heron/modbus_link/modbus_link.hpp"

using namespace heron;
using namespace std::chrono_literals;

namespace {

LinkSettings listening(LinkMode mode = LinkMode::push) {
  LinkSettings settings;
  settings.listens = true, settings.mode = mode;
  settings.finish = 2s, settings.acknowledge = 500ms;
  return settings;
}

/// The count, and place and angle of each of two parts.
RegisterMap two_places() {
  RegisterMap map;
  map.max_parts = 2;
  map.fields = {{.at = 10, .of = "count", .type = RegisterType::uint16},
                {.at = 20, .of = "x", .part = 1, .every = 10, .type = RegisterType::int32, .scale = 1000},
                {.at = 22, .of = "y", .part = 1, .every = 10, .scale = 10},
                {.at = 23,
                 .of = "angle",
                 .part = 1,
                 .every = 10,
                 .type = RegisterType::float32,
                 .order = WordOrder::low_first}};
  return map;
}

Report places(uint64_t number, std::vector<std::array<double, 3>> of) {
  Report report;
  report.number = number;
  for (const auto& [x, y, angle] : of) {
    ReportedPart part;
    part.robot = RobotPose{x, y, 0, WorldAngle{degrees(angle)}, {}};
    report.parts.push_back(part);
  }
  return report;
}

/// A logic controller's side, by the protocol library's own client.
class Controller {
 public:
  explicit Controller(const Address& station) : modbus_(modbus_new_tcp("127.0.0.1", station.port)) {
    REQUIRE(modbus_connect(modbus_) == 0);
  }
  ~Controller() { modbus_close(modbus_), modbus_free(modbus_); }
  Controller(const Controller&) = delete;
  Controller& operator=(const Controller&) = delete;

  std::vector<uint16_t> read(int at, int count) {
    std::vector<uint16_t> words(static_cast<size_t>(count));
    REQUIRE(modbus_read_input_registers(modbus_, at, count, words.data()) == count);
    return words;
  }
  uint16_t read(int at) { return read(at, 1)[0]; }
  bool valid(int at) {
    uint8_t bit = 9;
    REQUIRE(modbus_read_input_bits(modbus_, at, 1, &bit) == 1);
    return bit == 1;
  }
  void write(int at, int value) {
    REQUIRE(modbus_write_register(modbus_, at, static_cast<uint16_t>(value)) == 1);
  }
  bool await(int at, uint16_t value) {
    for (int i = 0; i < 400; ++i, std::this_thread::sleep_for(5ms))
      if (read(at) == value) return true;
    return false;
  }
  modbus_t* raw() { return modbus_; }

 private:
  modbus_t* modbus_;
};

int32_t whole_of(const std::vector<uint16_t>& high_first) {
  return static_cast<int32_t>(static_cast<uint32_t>(high_first[0]) << 16u | high_first[1]);
}

}  // namespace

TEST_CASE("a controller asks, reads a whole result and acknowledges it") {
  ModbusLink link(listening(LinkMode::ask), two_places());
  std::jthread side([&] {
    Controller plc(link.address());
    CHECK(plc.read(0, 3) == std::vector<uint16_t>{0, 0, 0});
    plc.write(modbus_ask, 41);
    REQUIRE(plc.await(modbus_answered, 41));
    CHECK(plc.read(modbus_state) == static_cast<uint16_t>(ModbusState::result));
    const uint16_t number = plc.read(modbus_result);
    CHECK(number == 7);
    const std::vector<uint16_t> words = plc.read(10, 25);
    CHECK(words[0] == 2);
    CHECK(whole_of({words[10], words[11]}) == -123457);  // -123.4566 mm in micrometres
    CHECK(static_cast<int16_t>(words[12]) == -55);
    CHECK(modbus_get_float(&words[13]) == doctest::Approx(-90.5));
    CHECK(whole_of({words[20], words[21]}) == 4000);
    for (const int at : {10, 20, 22, 23, 30, 32, 33}) CHECK(plc.valid(at));
    plc.write(modbus_acknowledged, number);
    CHECK(plc.await(modbus_state, static_cast<uint16_t>(ModbusState::ready)));
  });
  REQUIRE(link.wait_asked());
  const Report report = places(7, {{-123.4566, -5.5, -90.5}, {4, 5, 6}});
  const Delivery delivery = link.answer(sent_of(report, 0));
  CHECK(delivery.acknowledged);
  side.join();
  CHECK(link.counts().connections == 1);
}

TEST_CASE("what is not there or does not fit is not valid, and never a wrapped number") {
  std::vector<std::string> warnings;
  LinkSettings settings = listening();
  settings.warn = [&](const std::string& what) { warnings.push_back(what); };
  settings.finish = 50ms;
  ModbusLink link(settings, two_places());
  Controller plc(link.address());
  Report report = places(1, {{1, 4000, 3}});
  report.parts[0].detection.has_angle = false;
  CHECK_FALSE(link.deliver(sent_of(report, 0)).acknowledged);
  CHECK(plc.valid(20));
  CHECK_FALSE(plc.valid(22));  // 40000 is no int16
  CHECK(plc.read(22) == 0);
  CHECK_FALSE(plc.valid(23));  // a disc's angle
  CHECK_FALSE(plc.valid(30));  // no second part
  REQUIRE(warnings.size() == 1);
  CHECK(warnings[0].find("y of part 1 is 40000, which does not fit int16") != std::string::npos);
  // The next result leaves nothing behind of the one before.
  const Report none = places(2, {});
  CHECK_FALSE(link.deliver(sent_of(none, 0)).acknowledged);
  CHECK(plc.read(10, 16) == std::vector<uint16_t>(16, 0));
  CHECK(plc.valid(10));
  CHECK_FALSE(plc.valid(20));
}

TEST_CASE("a pushed result stands until it is acknowledged, and says what was not") {
  LinkSettings settings = listening();
  settings.finish = 300ms;
  ModbusLink link(settings, two_places());
  const Report report = places(70000, {{1, 2, 3}});
  const Delivery lost = link.deliver(sent_of(report, 0));
  CHECK_FALSE(lost.acknowledged);
  CHECK(lost.why.find("the controller writes 4465 to holding register 1") != std::string::npos);
  std::jthread side([&] {
    Controller plc(link.address());
    CHECK(plc.await(modbus_result, 4465));  // counts to 65535 and begins with 1 again
    plc.write(modbus_acknowledged, 4464);
    std::this_thread::sleep_for(30ms);
    plc.write(modbus_acknowledged, 4465);
  });
  CHECK(link.deliver(sent_of(report, 0)).acknowledged);
}

TEST_CASE("a controller that asks anew or goes leaves a result behind, which is never taken for new") {
  ModbusLink link(listening(LinkMode::ask), two_places());
  {
    Controller hasty(link.address());
    hasty.write(modbus_ask, 1);
  }
  REQUIRE(link.wait_asked());
  const Report first = places(1, {{1, 2, 3}}), second = places(2, {{1, 2, 3}});
  const Delivery lost = link.answer(sent_of(first, 0));
  CHECK_FALSE(lost.acknowledged);
  CHECK(lost.given_up);
  Controller plc(link.address());
  CHECK(plc.read(modbus_result) == 0);
  plc.write(modbus_ask, 2);
  REQUIRE(link.wait_asked());
  CHECK(plc.read(modbus_state) == static_cast<uint16_t>(ModbusState::working));
  std::jthread side([&] {
    REQUIRE(plc.await(modbus_result, 2));
    plc.write(modbus_ask, 3);
  });
  CHECK(link.answer(sent_of(second, 0)).given_up);
  side.join();
  CHECK(link.wait_asked());
}

TEST_CASE("wrong functions and addresses are refused, half requests and floods hold up nobody") {
  ModbusLink link(listening(LinkMode::ask), two_places());
  Controller plc(link.address());
  uint16_t word = 0;
  CHECK(modbus_read_input_registers(plc.raw(), 5000, 1, &word) == -1);
  CHECK(errno == EMBXILADD);
  CHECK(modbus_write_register(plc.raw(), 3, 1) == -1);
  CHECK(errno == EMBXILADD);
  CHECK(modbus_write_bit(plc.raw(), 0, 1) == -1);
  CHECK(errno == EMBXILADD);
  // Half a request, a byte of one, bytes of another protocol, and nothing, from more than may connect.
  std::vector<modbus_t*> others;
  for (int i = 0; i < 40; ++i) {
    modbus_t* other = modbus_new_tcp("127.0.0.1", link.address().port);
    others.push_back(other);
    if (modbus_connect(other) != 0 || i % 2 == 0) continue;
    const std::array<uint8_t, 8> bytes = i % 3 == 2
                                             ? std::array<uint8_t, 8>{'G', 'E', 'T', ' ', '/', ' ', 'H', 'T'}
                                             : std::array<uint8_t, 8>{0, 1, 0, 0, 0, 6, 1, 4};
    ::send(modbus_get_socket(other), bytes.data(), i % 3 == 1 ? 1 : 8, MSG_NOSIGNAL);
  }
  const auto begun = std::chrono::steady_clock::now();
  for (int i = 0; i < 200; ++i) CHECK(plc.read(modbus_state) == 0);
  CHECK(std::chrono::steady_clock::now() - begun < 8s);
  plc.write(modbus_ask, 9);
  CHECK(link.wait_asked());
  CHECK(link.counts().turned_away > 0);
  for (modbus_t* other : others) modbus_close(other), modbus_free(other);
}

TEST_CASE("a controller that comes anew finds a place beside connections that were left behind") {
  ModbusLink link(listening(LinkMode::ask), two_places());
  std::vector<std::unique_ptr<Controller>> left_behind;
  for (int i = 0; i < 20; ++i) left_behind.push_back(std::make_unique<Controller>(link.address()));
  Controller plc(link.address());
  plc.write(modbus_ask, 5);
  CHECK(link.wait_asked());
  CHECK(link.counts().turned_away >= 4);
}

TEST_CASE("a peer that asks without end and reads no answer is disconnected, and holds up nobody") {
  ModbusLink link(listening(LinkMode::ask), two_places());
  Controller plc(link.address()), flood(link.address());
  const int fd = modbus_get_socket(flood.raw());
  const std::array<uint8_t, 12> request{0, 1, 0, 0, 0, 6, 1, 4, 0, 0, 0, 30};
  bool over = false;
  const auto deadline = std::chrono::steady_clock::now() + 20s;
  while (!over && std::chrono::steady_clock::now() < deadline) {
    const ssize_t sent = ::send(fd, request.data(), request.size(), MSG_NOSIGNAL | MSG_DONTWAIT);
    over = sent < 0 && (errno == EPIPE || errno == ECONNRESET);
  }
  CHECK(over);
  plc.write(modbus_ask, 1);
  CHECK(link.wait_asked());
}

TEST_CASE("the heartbeat counts, nobody who asks ends the wait, and so does a stop") {
  LinkSettings settings = listening(LinkMode::ask);
  settings.finish = 200ms;
  ModbusLink link(settings, two_places());
  CHECK_THROWS_WITH_AS(link.wait_asked(), doctest::Contains("no controller asked for 0.2 s"), Error);
  Controller plc(link.address());
  const uint16_t before = plc.read(modbus_heartbeat);
  CHECK(plc.await(modbus_heartbeat, static_cast<uint16_t>(before + 1)));
  Work stop;
  settings.finish = 60s;
  ModbusLink stopped(settings, two_places(), &stop);
  std::jthread stops([&] {
    std::this_thread::sleep_for(100ms);
    stop.stop();
  });
  CHECK_FALSE(stopped.wait_asked());
  const Report report = places(1, {});
  CHECK(stopped.deliver(sent_of(report, 0)).why.find("stopped") != std::string::npos);
}

TEST_CASE("a taken port and an address that is no station's are errors") {
  const ModbusLink link(listening(), two_places());
  LinkSettings settings = listening();
  settings.address = link.address();
  CHECK_THROWS_WITH_AS(ModbusLink(settings, two_places()), doctest::Contains("cannot listen at"), Error);
  settings.address.host = "station.example";
  CHECK_THROWS_WITH_AS(ModbusLink(settings, two_places()), doctest::Contains("no IPv4 address"), Error);
  settings.listens = false;
  CHECK_THROWS_AS(ModbusLink(settings, two_places()), Error);
}

TEST_CASE("a station that is held says so, but for a result that still waits for its acknowledgement") {
  ModbusLink link(listening(), two_places());
  Controller plc(link.address());
  link.hold(true);
  CHECK(plc.read(modbus_state) == static_cast<uint16_t>(ModbusState::held));
  link.hold(false);
  CHECK(plc.read(modbus_state) == static_cast<uint16_t>(ModbusState::ready));
  std::jthread side([&] {
    Controller other(link.address());
    REQUIRE(other.await(modbus_result, 3));
    link.hold(true);
    CHECK(other.read(modbus_state) == static_cast<uint16_t>(ModbusState::result));
    other.write(modbus_acknowledged, 3);
    CHECK(other.await(modbus_state, static_cast<uint16_t>(ModbusState::held)));
  });
  CHECK(link.deliver(sent_of(places(3, {{1, 2, 3}}), 0)).acknowledged);
}

TEST_CASE("a controller selects a set-up, and what it asks then is meant for it") {
  LinkSettings settings = listening(LinkMode::ask);
  std::atomic<int> selected = 3;
  settings.setup = 3;
  settings.select = [&](int number) -> CommandAnswer {
    std::this_thread::sleep_for(200ms);  // loading
    if (number > 9) return {false, "there is no such set-up"};
    selected = number;
    return {true};
  };
  ModbusLink link(settings, two_places());
  std::jthread side([&] {
    Controller plc(link.address());
    CHECK(plc.read(modbus_setup) == 3);
    const std::array<uint16_t, 3> all{1, 0, 5};  // question and selection at one instant
    REQUIRE(modbus_write_registers(plc.raw(), modbus_ask, 3, all.data()) == 3);
    CHECK(plc.read(modbus_setup) == 3);  // loading holds up no answer
    REQUIRE(plc.await(modbus_answered, 1));
    CHECK(plc.read(modbus_setup) == 5);
    CHECK(plc.read(modbus_refused_setup) == 0);
    plc.write(modbus_acknowledged, plc.read(modbus_result));
    plc.write(modbus_select, 40);
    CHECK(plc.await(modbus_refused_setup, 40));
    CHECK(plc.read(modbus_setup) == 5);
    plc.write(modbus_select, 0);  // no wish; 40 could be tried again
    plc.write(modbus_select, 6);
    CHECK(plc.await(modbus_setup, 6));
    CHECK(plc.read(modbus_refused_setup) == 0);
    link.selected(8);  // by another link
    CHECK(plc.read(modbus_setup) == 8);
  });
  REQUIRE(link.wait_asked());
  CHECK(selected == 5);
  CHECK(link.answer(sent_of(places(7, {{1, 2, 3}}), 0)).acknowledged);
}
