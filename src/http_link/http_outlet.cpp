#include "heron/http_link/http_outlet.hpp"

#include <fmt/format.h>
#include <httplib.h>

#include <charconv>
#include <condition_variable>
#include <mutex>
#include <nlohmann/json.hpp>
#include <thread>

#include "heron/base/error.hpp"
#include "heron/files/atomic_file.hpp"

namespace heron {
namespace {

using httplib::Request;
using httplib::Response;
using ReplyJson = nlohmann::ordered_json;

constexpr const char* json_type = "application/json";
constexpr size_t most_readers = 16;           // of events at a time
constexpr size_t threads = most_readers + 8;  // each reader of events keeps one
constexpr int io_timeout_s = 5;
constexpr std::chrono::seconds sign_of_life{2};
constexpr size_t reports_at_once = 50;
constexpr const char* what_there_is =
    "there are GET /state, /report, /report/NUMBER, /picture, /events and POST /trigger, /hold, /release, "
    "/select/SET-UP";

bool is_local(const std::string& host) {
  return host.starts_with("127.") || host == "localhost" || host == "::1";
}

std::string dump(const ReplyJson& j) { return j.dump(-1, ' ', false, ReplyJson::error_handler_t::replace); }

std::optional<uint64_t> number_of(const std::string& text) {
  uint64_t number = 0;
  const auto [end, failed] = std::from_chars(text.data(), text.data() + text.size(), number);
  if (failed != std::errc() || end != text.data() + text.size()) return std::nullopt;
  return number;
}

/// The same time whatever is wrong with it.
bool same_secret(const std::string& a, const std::string& b) {
  unsigned difference = a.size() == b.size() ? 0 : 1;
  for (size_t i = 0; i < a.size(); ++i)
    difference |=
        static_cast<unsigned char>(a[i]) ^ static_cast<unsigned char>(b.empty() ? 0 : b[i % b.size()]);
  return difference == 0;
}

std::unique_ptr<httplib::Server> server_for(const HttpSettings& s) {
  if (s.certificate.empty()) {
    if (!is_local(s.listen.host))
      fail_argument(
          fmt::format("http: {} is beyond this machine: give certificate and key, so that nobody reads or "
                      "changes what is sent, and a token",
                      s.listen.text()));
    return std::make_unique<httplib::Server>();
  }
  if (!is_local(s.listen.host) && s.token.empty())
    fail_argument(fmt::format("http: {} is beyond this machine: give a token, which keeps others out",
                              s.listen.text()));
  read_file(s.certificate), read_file(s.key);  // so that one that is not there is said by name
  auto server = std::make_unique<httplib::SSLServer>(s.certificate.c_str(), s.key.c_str());
  if (!server->is_valid())
    fail_file({.file = s.certificate},
              fmt::format("and {} do not belong together, or are no PEM files", s.key));
  return server;
}

}  // namespace

struct HttpOutlet::State {
  HttpSettings settings;
  StationPort& station;
  std::unique_ptr<httplib::Server> server;
  Address listening;

  mutable std::mutex mutex;  // of all below
  std::condition_variable changed;
  uint64_t wakes = 0;
  size_t readers = 0;
  bool over = false;
  OutletCounts counts;

  std::jthread thread;  // the last member: it ends before the others go

  State(const HttpSettings& s, StationPort& port) : settings(s), station(port), server(server_for(s)) {
    server->new_task_queue = [] { return new httplib::ThreadPool(threads); };
    server->set_read_timeout(io_timeout_s), server->set_write_timeout(io_timeout_s);
    // The library would share the port with another program that listens there.
    server->set_socket_options([](socket_t socket) {
      const int yes = 1;
      setsockopt(socket, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes);
    });
    server->set_payload_max_length(4096);
    server->set_keep_alive_max_count(100);
    server->set_pre_routing_handler([this](const Request& q, Response& r) { return let_in(q, r); });
    server->Get("/state", [this](const Request&, Response& r) { answer_state(r); });
    server->Get("/report", [this](const Request&, Response& r) { answer_report(station.newest(), r); });
    server->Get(R"(/report/(\d{1,19}))", [this](const Request& q, Response& r) {
      answer_report(number_of(q.matches[1].str()).value_or(0), r);
    });
    server->Get("/picture", [this](const Request&, Response& r) { answer_picture(r); });
    server->Get("/events", [this](const Request& q, Response& r) { answer_events(q, r); });
    server->set_exception_handler([this](const Request&, Response& r, const std::exception_ptr& thrown) {
      try {
        std::rethrow_exception(thrown);
      } catch (const std::exception& error) {
        refuse(r, 500, error.what());
      }
    });
    server->set_error_handler([](const Request&, Response& r) {
      if (r.body.empty())
        r.set_content(
            dump({{"error", r.status == 404 ? what_there_is : "this is no request as HTTP has it"}}),
            json_type);
    });
    listen();
  }

  ~State() {
    {
      const std::lock_guard lock(mutex);
      over = true;
    }
    changed.notify_all();
    server->stop();
  }

  void listen() {
    listening = settings.listen;
    const int port = listening.port == 0 ? server->bind_to_any_port(listening.host.c_str())
                     : server->bind_to_port(listening.host.c_str(), listening.port) ? listening.port
                                                                                    : -1;
    if (port < 0)
      throw Error(
          ErrorCode::no_connection,
          fmt::format("http: cannot listen at {}; is it taken by another program?", listening.text()));
    listening.port = static_cast<uint16_t>(port);
    thread = std::jthread([this] { server->listen_after_bind(); });
    for (int i = 0; i < 5000 && !server->is_running(); ++i)
      std::this_thread::sleep_for(std::chrono::milliseconds(1));
  }

  void refuse(Response& r, int status, const std::string& why) {
    r.status = status;
    r.set_content(dump({{"error", why}}), json_type);
    const std::lock_guard lock(mutex);
    ++counts.refused;
  }

  httplib::Server::HandlerResponse let_in(const Request& q, Response& r) {
    const std::string bearer = "Bearer ";
    const std::string given = q.get_header_value("Authorization");
    if (!settings.token.empty() &&
        !(given.starts_with(bearer) && same_secret(given.substr(bearer.size()), settings.token))) {
      r.set_header("WWW-Authenticate", "Bearer");
      refuse(r, 401, "this station wants its token: Authorization: Bearer TOKEN");
      return httplib::Server::HandlerResponse::Handled;
    }
    if (q.method == "GET" || q.method == "HEAD") return httplib::Server::HandlerResponse::Unhandled;
    // Answered before a body is read: a command has none, and not every client says so by its length.
    r.set_header("Connection", "close");
    std::string words = q.path.empty() ? std::string() : q.path.substr(1);
    std::replace(words.begin(), words.end(), '/', ' ');  // /select/2
    const auto command = station_command(words);
    if (q.method == "POST" && command)
      answer_command(*command, r);
    else
      refuse(r, q.method == "POST" ? 404 : 405, what_there_is);
    return httplib::Server::HandlerResponse::Handled;
  }

  void answer_state(Response& r) const {
    ReplyJson state{{"station", station.name()},
                    {"session", station.session()},
                    {"state", word_of(station.state())},
                    {"newest", station.newest()}};
    if (const auto setup = station.setup())
      state["setup"] = {{"number", setup->number}, {"name", setup->name}};
    r.set_content(dump(state), json_type);
  }

  void answer_report(uint64_t number, Response& r) {
    const auto report = station.report(number);
    if (!report)
      return refuse(r, 404,
                    number == 0 ? "there is no result yet" : fmt::format("result {} is not stored", number));
    r.set_content(report->json, json_type);
  }

  void answer_picture(Response& r) {
    std::string png = station.picture_png();
    if (png.empty()) return refuse(r, 404, "there is no picture yet");
    r.set_content(std::move(png), "image/png");
  }

  void answer_command(StationCommand command, Response& r) {
    const CommandAnswer answer = station.command(command);
    if (!answer.taken) return refuse(r, 409, answer.reason);
    r.set_content(dump({{"taken", true}}), json_type);
    const std::lock_guard lock(mutex);
    ++counts.commands;
  }

  /// Server-sent events (HTML, section 9.2): a report each, with its number as id; a reader that comes back
  /// gets what it missed.
  void answer_events(const Request& q, Response& r) {
    uint64_t last = station.newest();  // a reader that is new begins with the next
    if (q.has_header("Last-Event-ID")) {
      const auto number = number_of(q.get_header_value("Last-Event-ID"));
      if (!number) return refuse(r, 400, "Last-Event-ID is the number of a report");
      last = std::min(*number, last);
    }
    {
      const std::lock_guard lock(mutex);
      if (readers < most_readers)
        ++readers, ++counts.connections;
      else
        last = std::numeric_limits<uint64_t>::max();
    }
    if (last == std::numeric_limits<uint64_t>::max())
      return refuse(r, 503, fmt::format("{} read events already", most_readers));
    r.set_header("Cache-Control", "no-store");
    auto at = std::make_shared<uint64_t>(last);
    r.set_chunked_content_provider(
        "text/event-stream", [this, at](size_t, httplib::DataSink& sink) { return write_events(*at, sink); },
        [this](bool) {
          const std::lock_guard lock(mutex);
          --readers;
        });
  }

  /// What there is, or a sign of life; false ends the connection.
  bool write_events(uint64_t& last, httplib::DataSink& sink) {
    uint64_t seen = 0;
    {
      const std::lock_guard lock(mutex);
      if (over) return false;
      seen = wakes;
    }
    std::string text;
    const auto reports = station.reports_after(last, reports_at_once);
    for (const NumberedReport& report : reports)
      text += fmt::format("id: {}\ndata: {}\n\n", report.number, report.json);
    if (text.empty()) {
      std::unique_lock lock(mutex);
      if (changed.wait_for(lock, sign_of_life, [&] { return over || wakes != seen; })) {
        lock.unlock();
        std::this_thread::sleep_for(machine_first);
        return true;  // looks for the end itself
      }
      text = ": still there\n\n";
    }
    if (!sink.write(text.data(), text.size())) return false;
    if (reports.empty()) return true;
    last = reports.back().number;
    const std::lock_guard lock(mutex);
    counts.sent += static_cast<int64_t>(reports.size());
    return true;
  }
};

HttpOutlet::HttpOutlet(const HttpSettings& settings, StationPort& station)
    : state_(std::make_unique<State>(settings, station)) {}
HttpOutlet::~HttpOutlet() = default;

void HttpOutlet::wake() {
  {
    const std::lock_guard lock(state_->mutex);
    ++state_->wakes;
  }
  state_->changed.notify_all();
}

OutletCounts HttpOutlet::counts() const {
  const std::lock_guard lock(state_->mutex);
  return state_->counts;
}

std::string HttpOutlet::text() const {
  return fmt::format("{} at {}", state_->settings.certificate.empty() ? "HTTP" : "HTTPS",
                     state_->listening.text());
}
Address HttpOutlet::address() const { return state_->listening; }

}  // namespace heron
