// Against a real broker, started on a port of loopback.
#include <doctest/doctest.h>
#include <fcntl.h>
#include <mosquitto.h>
#include <netinet/in.h>
#include <signal.h>
#include <sys/socket.h>
#include <sys/wait.h>

#include <set>
#include <thread>

#include "heron/mqtt_link/mqtt_outlet.hpp"
#include "outlet_station.hpp"
#include "patience.hpp"
#include "support.hpp"

using namespace heron;
using namespace std::chrono_literals;
using support::contains;
using support::error_of;
using support::FakeStation;
using support::soon;

namespace {

uint16_t free_port() {
  const int fd = socket(AF_INET, SOCK_STREAM, 0);
  sockaddr_in in{};
  in.sin_family = AF_INET, in.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  socklen_t size = sizeof in;
  REQUIRE(bind(fd, reinterpret_cast<sockaddr*>(&in), size) == 0);
  getsockname(fd, reinterpret_cast<sockaddr*>(&in), &size);
  close(fd);
  return ntohs(in.sin_port);
}

/// A broker of its own for a test; `more` are lines of its configuration.
class Broker {
 public:
  explicit Broker(const std::string& more = "allow_anonymous true\n", uint16_t at = free_port())
      : port(at), more_(more) {
    start();
  }
  ~Broker() { stop(); }
  Broker(const Broker&) = delete;
  Broker& operator=(const Broker&) = delete;

  void start() {
    support::write_text(folder_ / "broker.conf", "listener " + std::to_string(port) + " 127.0.0.1\n" + more_);
    process_ = fork();
    if (process_ == 0) {
      const int quiet = open("/dev/null", 1);
      dup2(quiet, 1), dup2(quiet, 2);
      for (const char* path : {"/usr/sbin/mosquitto", "/usr/bin/mosquitto"})
        execl(path, "mosquitto", "-c", (folder_ / "broker.conf").c_str(), nullptr);
      _exit(127);
    }
    REQUIRE(soon([&] {
      const int fd = socket(AF_INET, SOCK_STREAM, 0);
      sockaddr_in to{};
      to.sin_family = AF_INET, to.sin_port = htons(port), to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
      const bool there = connect(fd, reinterpret_cast<const sockaddr*>(&to), sizeof to) == 0;
      close(fd);
      return there;
    }));
  }
  void stop(int with = SIGKILL) {
    if (process_ <= 0) return;
    kill(process_, with);
    waitpid(process_, nullptr, 0);
    process_ = 0;
  }
  std::string file(const std::string& name) const { return folder_ / name; }

  uint16_t port;

 private:
  support::TemporaryFolder folder_;
  std::string more_;
  pid_t process_ = 0;
};

/// A reader by the protocol library's own client, which keeps what it got.
class Reader {
 public:
  explicit Reader(uint16_t port, const char* topic = "studio/tray/#")
      : topic_(topic), client_(mosquitto_new(nullptr, true, this)) {
    mosquitto_message_callback_set(client_, [](mosquitto*, void* self, const mosquitto_message* m) {
      auto& reader = *static_cast<Reader*>(self);
      const std::lock_guard lock(reader.mutex_);
      reader.got_.push_back(
          std::string(m->topic).substr(12) + (m->retain ? " kept " : " ") +
          std::string(static_cast<const char*>(m->payload), static_cast<size_t>(m->payloadlen)));
    });
    mosquitto_connect_callback_set(client_, [](mosquitto* client, void* self, int) {
      mosquitto_subscribe(client, nullptr, static_cast<Reader*>(self)->topic_, 1);
    });
    mosquitto_subscribe_callback_set(client_, [](mosquitto*, void* self, int, int, const int*) {
      static_cast<Reader*>(self)->ready_ = true;
    });
    mosquitto_reconnect_delay_set(client_, 1, 1, false);
    REQUIRE(mosquitto_connect(client_, "127.0.0.1", port, 10) == MOSQ_ERR_SUCCESS);
    mosquitto_loop_start(client_);
    REQUIRE(soon([&] { return ready_.load(); }));
  }
  ~Reader() {
    mosquitto_disconnect(client_);
    mosquitto_loop_stop(client_, true);
    mosquitto_destroy(client_);
  }
  Reader(const Reader&) = delete;
  Reader& operator=(const Reader&) = delete;

  std::vector<std::string> got(const std::string& topic) const {
    const std::lock_guard lock(mutex_);
    std::vector<std::string> some;
    for (const std::string& text : got_)
      if (text.starts_with(topic)) some.push_back(text);
    return some;
  }
  void say(const std::string& text, bool retained = false) {
    mosquitto_publish(client_, nullptr, "studio/tray/command", static_cast<int>(text.size()), text.data(), 1,
                      retained);
  }

 private:
  const char* topic_;
  mosquitto* client_;
  mutable std::mutex mutex_;
  std::atomic<bool> ready_ = false;
  std::vector<std::string> got_;
};

MqttSettings at(const Broker& broker) {
  return {.broker = {"127.0.0.1", broker.port}, .topic = "studio/tray"};
}

}  // namespace

TEST_CASE("reports go to the broker in order, with the session in which their number counts") {
  Broker broker;
  FakeStation station;
  for (uint64_t n = 1; n <= 100; ++n) station.add(n);
  Reader reader(broker.port);
  {
    MqttOutlet outlet(at(broker), station);
    REQUIRE(soon([&] { return reader.got("report").size() == 100; }));
    station.add(101), outlet.wake();
    REQUIRE(soon([&] { return outlet.counts().sent == 101; }));
    CHECK(outlet.counts().waiting == 0);
    CHECK(outlet.text() == "MQTT at 127.0.0.1:" + std::to_string(broker.port) + ", topic studio/tray");
  }
  const auto reports = reader.got("report");
  REQUIRE(reports.size() == 101);
  CHECK(reports[0] == "report {\"session\":\"0a1b2c3d\",\"picture\":\"p.png\",\"number\":1}");
  for (size_t i = 0; i < reports.size(); ++i)
    CHECK(contains(reports[i], "\"number\":" + std::to_string(i + 1) + "}"));
  // What the broker has is not sent again by the next run.
  MqttOutlet again(at(broker), station);
  station.add(102), again.wake();
  REQUIRE(soon([&] { return reader.got("report").size() == 102; }));
  CHECK(contains(reader.got("report").back(), "\"number\":102}"));
}

TEST_CASE("the state is kept by the broker: working, held, ended, and gone when the station dies") {
  Broker broker;
  FakeStation station;
  Reader reader(broker.port, "studio/tray/state");
  const auto last = [&](const Reader& from, const std::string& state) {
    return soon([&] {
      return !from.got("state").empty() && contains(from.got("state").back(), "\"state\":\"" + state + "\"");
    });
  };
  {
    MqttOutlet outlet(at(broker), station);
    CHECK(last(reader, "working"));
    station.say(StationState::held), outlet.wake();
    CHECK(last(reader, "held"));
    Reader late(broker.port, "studio/tray/state");
    CHECK(last(late, "held"));
    CHECK(late.got("state kept").size() == 1);
  }
  CHECK(last(reader, "ended"));
  const pid_t child = fork();
  if (child == 0) {
    MqttOutlet outlet(at(broker), station);
    std::this_thread::sleep_for(60s);
    _exit(0);
  }
  CHECK(last(reader, "held"));
  kill(child, SIGKILL);
  waitpid(child, nullptr, 0);
  CHECK(last(reader, "gone"));
}

TEST_CASE("commands come back, and each is answered") {
  Broker broker;
  FakeStation station;
  Reader reader(broker.port);
  MqttOutlet outlet(at(broker), station);
  REQUIRE(soon([&] { return !reader.got("state").empty(); }));
  std::this_thread::sleep_for(100ms);
  const auto answered = [&](const std::string& command, const std::string& answer) {
    const size_t before = reader.got("answer").size();
    reader.say(command);
    REQUIRE(soon([&] { return reader.got("answer").size() == before + 1; }));
    CHECK(reader.got("answer").back() == "answer " + answer);
  };
  answered("trigger", R"({"command":"trigger","taken":true})");
  answered("hold", R"({"command":"hold","taken":true})");
  answered("trigger", R"({"command":"trigger","taken":false,"reason":"the station is held"})");
  answered("release", R"({"command":"release","taken":true})");
  answered(
      "Trigger",
      R"({"command":"Trigger","taken":false,"reason":"unknown; a command is trigger, hold, release, or select and a number"})");
  answered(
      "",
      R"({"command":"","taken":false,"reason":"unknown; a command is trigger, hold, release, or select and a number"})");
  answered("\x01\xff" + std::string(3, 'a'),
           "{\"command\":\"\\u0001\ufffdaaa\",\"taken\":false,\"reason\":\"unknown; a command is trigger, "
           "hold, release, or select and a number\"}");
  CHECK(station.commands == 4);
  answered("select 7", R"({"command":"select 7","taken":true})");
  answered("select 9", R"({"command":"select 9","taken":false,"reason":"there is no set-up 9"})");
  REQUIRE(
      soon([&] { return contains(reader.got("state").back(), R"("setup":{"number":7,"name":"kites"})"); }));
  CHECK(outlet.counts().commands == 4);
}

TEST_CASE("a command that the broker kept is not obeyed at every start") {
  Broker broker;
  FakeStation station;
  Reader reader(broker.port);
  reader.say("hold", true);
  std::this_thread::sleep_for(100ms);
  MqttOutlet outlet(at(broker), station);
  REQUIRE(soon([&] { return !reader.got("answer").empty(); }));
  CHECK(contains(reader.got("answer").back(), "without retain"));
  CHECK(station.commands == 0);
}

TEST_CASE("a broker that is killed and comes again misses no report") {
  std::vector<std::string> warnings;
  std::mutex mutex;
  Broker broker;
  FakeStation station;
  MqttSettings settings = at(broker);
  settings.warn = [&](const std::string& what) {
    const std::lock_guard lock(mutex);
    warnings.push_back(what);
  };
  auto reader = std::make_unique<Reader>(broker.port);
  MqttOutlet outlet(settings, station);
  REQUIRE(soon([&] { return outlet.counts().connections == 1; }));
  std::set<std::string> seen;
  uint64_t number = 0;
  for (int kill = 1; kill <= 3; ++kill) {
    for (int i = 0; i < 200; ++i) {
      station.add(++number), outlet.wake();
      if (i == 100) {
        for (const std::string& text : reader->got("report")) seen.insert(text);
        broker.stop();
      }
    }
    for (const std::string& text : reader->got("report")) seen.insert(text);
    reader.reset();
    broker.start();
    reader = std::make_unique<Reader>(broker.port);
    REQUIRE(soon([&] { return outlet.counts().waiting == 0; }));
    REQUIRE(soon([&] { return outlet.counts().sent == static_cast<int64_t>(number); }));
    std::this_thread::sleep_for(100ms);
    for (const std::string& text : reader->got("report")) seen.insert(text);
  }
  // The broker acknowledged each. Those that it had when it was killed, it may not have handed on.
  CHECK(seen.size() > 590);
  const std::lock_guard lock(mutex);
  CHECK(warnings.size() >= 3);
  CHECK(contains(warnings[0], "reports wait in the store, and the station goes on"));
}

TEST_CASE("a broker that is not there delays nothing, and what waits is sent when it comes") {
  const uint16_t port = free_port();
  FakeStation station;
  station.add(1);
  CHECK(within(1s, [&] {
    const auto begun = std::chrono::steady_clock::now();
    {
      MqttOutlet outlet({.broker = {"127.0.0.1", port}, .topic = "studio/tray"}, station);
      CHECK(outlet.counts().waiting == 1);
    }
    return std::chrono::steady_clock::now() - begun;
  }));
  MqttOutlet outlet({.broker = {"127.0.0.1", port}, .topic = "studio/tray"}, station);
  std::this_thread::sleep_for(300ms);
  Broker broker("allow_anonymous true\n", port);
  Reader reader(port);
  CHECK(soon([&] { return reader.got("report").size() == 1; }));
}

TEST_CASE("a broker that refuses is said with its reason, and the password is read from its file") {
  support::TemporaryFolder folder;
  support::write_text(folder / "right", "teal\n");
  support::write_text(folder / "wrong", "grey\n");
  REQUIRE(support::run("mosquitto_passwd -b -c users heron teal", folder.path()).status == 0);
  REQUIRE(support::run("chmod 644 users && chmod 755 .", folder.path()).status == 0);
  Broker broker("allow_anonymous false\npassword_file " + (folder / "users") + "\n");
  FakeStation station;
  station.add(1);
  MqttSettings settings = at(broker);
  std::atomic<bool> refused = false;
  settings.warn = [&](const std::string& what) {
    if (contains(what, "not authori")) refused = true;
  };
  settings.user = "heron", settings.password_file = folder / "wrong";
  {
    MqttOutlet outlet(settings, station);
    CHECK(soon([&] { return refused.load(); }));
    CHECK(outlet.counts().sent == 0);
  }
  settings.password_file = folder / "right";
  {
    MqttOutlet outlet(settings, station);
    CHECK(soon([&] { return outlet.counts().sent == 1; }));
  }
  settings.password_file = folder / "none";
  CHECK(contains(error_of([&] { MqttOutlet outlet(settings, station); }), "none"));
}

TEST_CASE("a certificate that does not fit is refused, one that does is taken") {
  support::TemporaryFolder folder;
  const auto made = support::run(
      "for n in a b; do openssl req -x509 -newkey rsa:2048 -nodes -keyout $n.key -out $n.pem -days 2 -subj "
      "/CN=localhost "
      "-addext subjectAltName=IP:127.0.0.1,DNS:localhost; done; chmod 644 *.key; chmod 755 .",
      folder.path());
  REQUIRE_MESSAGE(made.status == 0, made.err);
  Broker broker("allow_anonymous true\ncertfile " + (folder / "a.pem") + "\nkeyfile " + (folder / "a.key") +
                "\n");
  FakeStation station;
  station.add(1);
  MqttSettings settings = at(broker);
  std::atomic<int> warned = 0;
  settings.warn = [&](const std::string&) { ++warned; };
  settings.ca_file = folder / "b.pem";
  {
    MqttOutlet outlet(settings, station);
    CHECK(soon([&] { return warned > 0; }));
    CHECK(outlet.counts().sent == 0);
  }
  settings.ca_file = folder / "a.pem";
  {
    MqttOutlet outlet(settings, station);
    CHECK(soon([&] { return outlet.counts().sent == 1; }));
  }
  settings.ca_file = folder / "a.key";
  settings.ca_file = folder / "none.pem";
  CHECK(contains(error_of([&] { MqttOutlet outlet(settings, station); }), "none.pem"));
}

TEST_CASE("topics that cannot be are refused") {
  FakeStation station;
  for (const char* topic : {"", "/tray", "tray/", "tray/#", "a+b", "a b", "$SYS"})
    CHECK(contains(error_of([&] { MqttOutlet outlet({.topic = topic}, station); }), "mqtt: topic"));
}
