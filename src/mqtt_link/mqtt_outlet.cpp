#include "heron/mqtt_link/mqtt_outlet.hpp"

#include <fmt/format.h>
#include <mosquitto.h>
#include <poll.h>
#include <sys/eventfd.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <chrono>
#include <deque>
#include <mutex>
#include <nlohmann/json.hpp>
#include <set>
#include <thread>

#include "heron/base/error.hpp"
#include "heron/files/atomic_file.hpp"

namespace heron {
namespace mqtt {

struct Free {
  void operator()(mosquitto* m) const { mosquitto_destroy(m); }
};

/// A report that the broker has not acknowledged yet.
struct OnItsWay {
  int message = 0;
  uint64_t number = 0;
  bool acknowledged = false;
};

/// Ends a poll from another thread.
class Bell {
 public:
  Bell() : fd_(eventfd(0, EFD_CLOEXEC | EFD_NONBLOCK)) {}
  ~Bell() { close(fd_); }
  Bell(const Bell&) = delete;
  Bell& operator=(const Bell&) = delete;
  void ring() const { static_cast<void>(eventfd_write(fd_, 1)); }
  void quiet() const {
    eventfd_t count = 0;
    static_cast<void>(eventfd_read(fd_, &count));
  }
  int fd() const { return fd_; }

 private:
  int fd_;
};

}  // namespace mqtt

namespace {

using Clock = std::chrono::steady_clock;

constexpr int qos = 1;
constexpr int keep_alive_s = 10;
constexpr size_t most_on_their_way = 20;
constexpr std::chrono::seconds farewell_time{2};
constexpr std::chrono::seconds first_pause{1}, longest_pause{30};  // between two tries to connect
constexpr size_t longest_command = 64;
constexpr size_t most_failures = 5;  // that are said before it is connected again

/// For as long as the program runs.
void require_library() {
  static const int ready = mosquitto_lib_init();
  if (ready != MOSQ_ERR_SUCCESS) throw Error(ErrorCode::no_connection, "mqtt: the library cannot begin");
}

std::string first_line(const std::string& file) {
  const std::string text = read_file(file, 4096);
  return text.substr(0, text.find_first_of("\r\n"));
}

}  // namespace

struct MqttOutlet::State {
  MqttSettings settings;
  StationPort& station;
  std::string receiver;  // by which the store knows how far the broker is
  std::unique_ptr<mosquitto, mqtt::Free> client;

  mqtt::Bell bell;

  mutable std::mutex mutex;  // of the counts, and of what they are made of
  OutletCounts counts;
  uint64_t acknowledged = 0;

  // Only the thread below uses these.
  bool connected = false, tried = false;
  std::string said_state;
  std::set<std::string> failures;  // why it is not connected, each said once
  Clock::time_point next_try{};
  std::chrono::seconds pause = first_pause;
  uint64_t sent = 0, stored_position = 0;
  std::deque<mqtt::OnItsWay> on_their_way;

  std::jthread worker;  // the last member: it ends before the others go

  State(const MqttSettings& s, StationPort& port)
      : settings(s), station(port), receiver(fmt::format("mqtt {} {}", s.broker.text(), s.topic)) {
    if (const std::string wrong = wrong_with_topic(s.topic); !wrong.empty())
      fail_argument(fmt::format("mqtt: topic '{}' {}", s.topic, wrong));
    require_library();
    // A name of its own, by which the broker ends a connection that an earlier run left behind.
    client.reset(mosquitto_new(fmt::format("heron-{}", station.session()).c_str(), true, this));
    if (!client) throw std::bad_alloc();
    if (!s.user.empty()) {
      const std::string password = s.password_file.empty() ? std::string() : first_line(s.password_file);
      mosquitto_username_pw_set(client.get(), s.user.c_str(), password.empty() ? nullptr : password.c_str());
    }
    if (!s.ca_file.empty()) {
      read_file(s.ca_file);  // so that one that is not there is said by name
      if (mosquitto_tls_set(client.get(), s.ca_file.c_str(), nullptr, nullptr, nullptr, nullptr) !=
          MOSQ_ERR_SUCCESS)
        fail_file({.file = s.ca_file}, "holds no certificates in PEM form");
    }
    const std::string gone = state_text("gone");
    mosquitto_will_set(client.get(), topic("state").c_str(), static_cast<int>(gone.size()), gone.data(), qos,
                       true);
    mosquitto_max_inflight_messages_set(client.get(), most_on_their_way);
    mosquitto_connect_callback_set(
        client.get(), [](mosquitto*, void* self, int code) { static_cast<State*>(self)->on_connect(code); });
    mosquitto_disconnect_callback_set(client.get(), [](mosquitto*, void* self, int code) {
      static_cast<State*>(self)->on_disconnect(code);
    });
    mosquitto_publish_callback_set(client.get(), [](mosquitto*, void* self, int message) {
      static_cast<State*>(self)->on_acknowledged(message);
    });
    mosquitto_message_callback_set(client.get(), [](mosquitto*, void* self, const mosquitto_message* m) {
      static_cast<State*>(self)->on_message(*m);
    });
    sent = acknowledged = stored_position = station.position(receiver);
    worker = std::jthread([this](const std::stop_token& over) { work(over); });
  }

  std::string topic(const char* name) const { return settings.topic + "/" + name; }

  std::string state_text(const std::string& state) const {
    nlohmann::ordered_json j{{"station", station.name()}, {"session", station.session()}, {"state", state}};
    if (const auto setup = state == "gone" ? std::nullopt : station.setup())
      j["setup"] = {{"number", setup->number}, {"name", setup->name}};
    return j.dump(-1, ' ', false, nlohmann::ordered_json::error_handler_t::replace);
  }

  void warn(const std::string& what) const {
    if (settings.warn) settings.warn(fmt::format("mqtt: {}", what));
  }

  // The client calls these from within its reading.

  void on_connect(int code) {
    if (code != 0) return fail(mosquitto_connack_string(code));
    connected = true, said_state.clear(), failures.clear(), pause = first_pause;
    mosquitto_subscribe(client.get(), nullptr, topic("command").c_str(), qos);
    const std::lock_guard lock(mutex);
    ++counts.connections;
  }

  void on_disconnect(int code) {
    connected = false;
    if (code != 0) fail(mosquitto_strerror(code));
  }

  void fail(const std::string& why) {
    if (failures.size() >= most_failures || !failures.insert(why).second) return;
    warn(fmt::format("no broker at {} ({}); reports wait in the store, and the station goes on",
                     settings.broker.text(), why));
  }

  void on_acknowledged(int message) {
    for (mqtt::OnItsWay& m : on_their_way)
      if (m.message == message) m.acknowledged = true;
    const std::lock_guard lock(mutex);
    while (!on_their_way.empty() && on_their_way.front().acknowledged) {
      acknowledged = on_their_way.front().number;
      on_their_way.pop_front();
      ++counts.sent;
    }
  }

  void on_message(const mosquitto_message& m) {
    const std::string text(static_cast<const char*>(m.payload),
                           std::min(static_cast<size_t>(std::max(m.payloadlen, 0)), longest_command));
    CommandAnswer answer;
    const auto command = station_command(text);
    if (m.retain)
      answer.reason = "a command that the broker kept is none; publish it without retain";
    else if (!command)
      answer.reason = "unknown; a command is trigger, hold, release, or select and a number";
    else
      answer = station.command(*command);
    nlohmann::ordered_json j{{"command", text}, {"taken", answer.taken}};
    if (!answer.taken) j["reason"] = answer.reason;
    say("answer", j.dump(-1, ' ', false, nlohmann::ordered_json::error_handler_t::replace), false);
    const std::lock_guard lock(mutex);
    ++(answer.taken ? counts.commands : counts.refused);
  }

  void say(const char* name, const std::string& text, bool retained) {
    mosquitto_publish(client.get(), nullptr, topic(name).c_str(), static_cast<int>(text.size()), text.data(),
                      qos, retained);
  }

  void work(const std::stop_token& over) {
    while (!over.stop_requested()) {
      step();
      wait(Clock::now() + longest_pause, over);
      std::this_thread::sleep_for(machine_first);
    }
    step();
    for (const auto deadline = Clock::now() + farewell_time;
         connected && (!on_their_way.empty() || sent < station.newest()) && Clock::now() < deadline; step())
      serve(std::chrono::milliseconds(20));
    if (!connected) return;
    say_state(word_of(StationState::ended));
    while (mosquitto_want_write(client.get()) && mosquitto_loop_write(client.get(), 1) == MOSQ_ERR_SUCCESS) {
    }
    mosquitto_disconnect(client.get());  // without the will
  }

  /// Until there is something to do.
  void wait(Clock::time_point until, const std::stop_token& over) {
    while (!over.stop_requested() && Clock::now() < until) {
      const auto next = mosquitto_socket(client.get()) < 0 ? std::min(until, next_try) : until;
      const auto left = std::chrono::duration_cast<std::chrono::milliseconds>(next - Clock::now());
      // The library looks after its keep-alive a few times a second.
      if (serve(std::clamp(left, std::chrono::milliseconds(0), std::chrono::milliseconds(200)))) return;
    }
  }

  /// Reads and writes what there is; true when somebody rang, the broker said something, or it is gone.
  bool serve(std::chrono::milliseconds time) {
    const int socket = mosquitto_socket(client.get());
    if (socket < 0 && Clock::now() >= next_try) return connect();
    const auto wanted = static_cast<short>(mosquitto_want_write(client.get()) ? POLLIN | POLLOUT : POLLIN);
    std::array<pollfd, 2> fds{{{bell.fd(), POLLIN, 0}, {socket, wanted, 0}}};  // one below 0 is passed over
    poll(fds.data(), fds.size(), static_cast<int>(time.count()));
    bell.quiet();
    if (socket < 0) return fds[0].revents != 0;
    bool moved = fds[0].revents != 0;
    int code = MOSQ_ERR_SUCCESS;
    if ((fds[1].revents & POLLOUT) != 0) code = mosquitto_loop_write(client.get(), 1);
    if (code == MOSQ_ERR_SUCCESS && (fds[1].revents & ~POLLOUT) != 0)
      code = mosquitto_loop_read(client.get(), 1), moved = true;
    // The disconnect callback covers lost connections, not failed ones, such as a wrong certificate.
    if (code != MOSQ_ERR_SUCCESS && !connected) fail(mosquitto_strerror(code));
    mosquitto_loop_misc(client.get());
    return moved || mosquitto_socket(client.get()) < 0;
  }

  bool connect() {
    next_try = Clock::now() + pause, pause = std::min(2 * pause, longest_pause);
    const int code = std::exchange(tried, true)
                         ? mosquitto_reconnect_async(client.get())
                         : mosquitto_connect_async(client.get(), settings.broker.host.c_str(),
                                                   settings.broker.port, keep_alive_s);
    if (code != MOSQ_ERR_SUCCESS)
      fail(code == MOSQ_ERR_ERRNO ? "nobody listens there" : mosquitto_strerror(code));
    return false;
  }

  void step() try {
    if (!connected) return;
    say_state(word_of(station.state()));
    publish_reports();
    keep_position();
  } catch (const Error& error) {
    warn(error.what());
  }

  void say_state(const std::string& state) {
    std::string text = state_text(state);
    if (text != said_state) say("state", said_state = std::move(text), true);
  }

  void publish_reports() {
    while (on_their_way.size() < most_on_their_way) {
      const auto reports = station.reports_after(sent, most_on_their_way - on_their_way.size());
      if (reports.empty()) return;
      for (const NumberedReport& r : reports) {
        // An object of its own, with the session in which the number counts.
        const std::string text = fmt::format("{{\"session\":\"{}\",{}", station.session(), r.json.substr(1));
        int message = 0;
        if (mosquitto_publish(client.get(), &message, topic("report").c_str(), static_cast<int>(text.size()),
                              text.data(), qos, false) != MOSQ_ERR_SUCCESS)
          return;
        on_their_way.push_back({message, r.number});
        const std::lock_guard lock(mutex);
        if (sent > 0 && r.number > sent + 1) counts.left_out += static_cast<int64_t>(r.number - sent - 1);
        sent = r.number;
      }
    }
  }

  /// After a crash the reports since then come twice: readers keep numbers.
  void keep_position() {
    if (acknowledged == stored_position) return;
    station.set_position(receiver, acknowledged);
    stored_position = acknowledged;
  }
};

MqttOutlet::MqttOutlet(const MqttSettings& settings, StationPort& station)
    : state_(std::make_unique<State>(settings, station)) {}
MqttOutlet::~MqttOutlet() {
  state_->worker.request_stop();
  wake();
}

void MqttOutlet::wake() { state_->bell.ring(); }

OutletCounts MqttOutlet::counts() const {
  const uint64_t newest = state_->station.newest();
  const std::lock_guard lock(state_->mutex);
  OutletCounts counts = state_->counts;
  counts.waiting = static_cast<int64_t>(newest - std::min(newest, state_->acknowledged));
  return counts;
}

std::string MqttOutlet::text() const {
  return fmt::format("MQTT at {}, topic {}", state_->settings.broker.text(), state_->settings.topic);
}

}  // namespace heron
