#include <doctest/doctest.h>
#include <httplib.h>
#include <sys/socket.h>

#include <thread>

#include "heron/base/error.hpp"
#include "heron/http_link/http_outlet.hpp"
#include "outlet_station.hpp"
#include "support.hpp"

using namespace heron;
using namespace std::chrono_literals;
using support::contains;
using support::error_of;
using support::FakeStation;
using support::soon;

namespace {

HttpSettings here() { return {.listen = {"127.0.0.1", 0}}; }

httplib::Client client_of(const HttpOutlet& outlet) {
  httplib::Client client("127.0.0.1", outlet.address().port);
  client.set_read_timeout(10);
  return client;
}

/// A reader of events in a thread of its own.
class Reader {
 public:
  Reader(const HttpOutlet& outlet, const std::string& last_event = "")
      : client_("127.0.0.1", outlet.address().port), thread_([this, last_event] {
          httplib::Headers headers;
          if (!last_event.empty()) headers.emplace("Last-Event-ID", last_event);
          client_.set_read_timeout(20);
          client_.Get("/events", headers, [this](const char* data, size_t size) {
            const std::lock_guard lock(mutex_);
            text_.append(data, size);
            return !over_;
          });
        }) {}
  ~Reader() {
    over_ = true;
    client_.stop();
  }
  std::string text() const {
    const std::lock_guard lock(mutex_);
    return text_;
  }

 private:
  mutable std::mutex mutex_;
  std::string text_;
  std::atomic<bool> over_ = false;
  httplib::Client client_;
  std::jthread thread_;
};

}  // namespace

TEST_CASE("reports, state and picture are served, and what is not there is said") {
  FakeStation station;
  HttpOutlet outlet(here(), station);
  auto client = client_of(outlet);
  CHECK(client.Get("/report")->status == 404);
  CHECK(client.Get("/picture")->status == 404);
  station.add(1), station.add(2);
  station.picture = "\x89PNG and so on";
  CHECK(client.Get("/report")->body == "{\"picture\":\"p.png\",\"number\":2}");
  CHECK(client.Get("/report/1")->body == "{\"picture\":\"p.png\",\"number\":1}");
  CHECK(contains(client.Get("/report/3")->body, "result 3 is not stored"));
  CHECK(client.Get("/report/99999999999999999999")->status == 404);
  CHECK(client.Get("/picture")->body == station.picture);
  CHECK(client.Get("/picture")->get_header_value("Content-Type") == "image/png");
  CHECK(client.Get("/state")->body ==
        "{\"station\":\"tray\",\"session\":\"0a1b2c3d\",\"state\":\"working\",\"newest\":2}");
  const auto other = client.Get("/reports");
  CHECK(other->status == 404);
  CHECK(contains(other->body, "there are GET /state"));
  CHECK(client.Post("/report")->status == 404);
}

TEST_CASE("commands are taken, or refused with the reason") {
  FakeStation station;
  HttpOutlet outlet(here(), station);
  auto client = client_of(outlet);
  CHECK(client.Post("/trigger")->status == 200);
  CHECK(client.Post("/hold")->status == 200);
  CHECK(contains(client.Get("/state")->body, "\"held\""));
  const auto refused = client.Post("/trigger");
  CHECK(refused->status == 409);
  CHECK(contains(refused->body, "the station is held"));
  CHECK(client.Post("/release")->status == 200);
  CHECK_FALSE(contains(client.Get("/state")->body, "setup"));
  CHECK(client.Post("/select/7")->status == 200);
  CHECK(contains(client.Get("/state")->body, R"("setup":{"number":7,"name":"kites"})"));
  CHECK(client.Post("/select/9")->status == 409);
  for (const char* wrong : {"/select", "/select/", "/select/x", "/select/-1", "/select/7/8"})
    CHECK(client.Post(wrong)->status == 404);
  CHECK(client.Get("/trigger")->status == 404);  // reading changes nothing
  CHECK(client.Delete("/report/1")->status == 405);
  // A client that says nothing of a body has none; one that sends one is answered too.
  const auto asked = support::run(
      "curl -s -m 2 -X POST http://127.0.0.1:" + std::to_string(outlet.address().port) + "/hold", "/tmp");
  CHECK(asked.out == "{\"taken\":true}");
  CHECK(client.Post("/release", "please", "text/plain")->status == 200);
  CHECK(station.commands == 8);
  CHECK(outlet.counts().commands == 6);
}

TEST_CASE("events come as they are stored, and a reader that comes back misses none") {
  FakeStation station;
  for (uint64_t n = 1; n <= 70; ++n) station.add(n);
  HttpOutlet outlet(here(), station);
  {
    Reader reader(outlet);
    REQUIRE(soon([&] { return outlet.counts().connections == 1; }));
    std::this_thread::sleep_for(50ms);
    station.add(71), outlet.wake();
    REQUIRE(soon([&] { return contains(reader.text(), "\n\n"); }));
    CHECK(reader.text() == "id: 71\ndata: {\"picture\":\"p.png\",\"number\":71}\n\n");
  }
  Reader reader(outlet, "3");
  REQUIRE(soon([&] { return contains(reader.text(), "id: 71\n"); }));
  const std::string text = reader.text();
  CHECK(text.starts_with("id: 4\n"));
  for (int n = 4; n <= 71; ++n) CHECK(contains(text, "id: " + std::to_string(n) + "\n"));
  CHECK(client_of(outlet).Get("/events", {{"Last-Event-ID", "x"}})->status == 400);
}

TEST_CASE("a reader that reads nothing delays neither the station nor other readers") {
  FakeStation station;
  HttpOutlet outlet(here(), station);
  std::vector<int> deaf;
  for (int i = 0; i < 5; ++i) {
    const int fd = socket(AF_INET, SOCK_STREAM, 0);
    sockaddr_in to{};
    to.sin_family = AF_INET, to.sin_port = htons(outlet.address().port),
    to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    REQUIRE(connect(fd, reinterpret_cast<const sockaddr*>(&to), sizeof to) == 0);
    const std::string ask = "GET /events HTTP/1.1\r\nHost: x\r\n\r\n";
    REQUIRE(send(fd, ask.data(), ask.size(), 0) == static_cast<ssize_t>(ask.size()));
    deaf.push_back(fd);
  }
  Reader reader(outlet);
  REQUIRE(soon([&] { return outlet.counts().connections == 6; }));
  std::this_thread::sleep_for(50ms);
  const auto begun = std::chrono::steady_clock::now();
  for (uint64_t n = 1; n <= 20000; ++n) station.add(n), outlet.wake();
  CHECK(std::chrono::steady_clock::now() - begun < 5s);
  CHECK(soon([&] { return contains(reader.text(), "id: 20000\n"); }));
  for (const int fd : deaf) close(fd);
}

TEST_CASE("too many readers, half requests and floods leave the rest at work") {
  FakeStation station;
  station.add(1);
  HttpOutlet outlet(here(), station);
  std::vector<std::unique_ptr<Reader>> readers;
  for (int i = 0; i < 16; ++i) readers.push_back(std::make_unique<Reader>(outlet));
  REQUIRE(soon([&] { return outlet.counts().connections == 16; }));
  auto client = client_of(outlet);
  CHECK(client.Get("/events")->status == 503);
  CHECK(client.Get("/report")->status == 200);
  client_of(outlet).Post("/trigger", std::string(10000000, 'x'), "text/plain");  // its body is not read
  CHECK(client_of(outlet).Get("/" + std::string(20000, 'y'))->status != 200);
  readers.clear();
  CHECK(soon([&] {
    Reader late(outlet);
    return soon([&] { return outlet.counts().connections > 16; });
  }));
}

TEST_CASE("a token keeps others out") {
  FakeStation station;
  station.add(1);
  HttpSettings settings = here();
  settings.token = "blue kiln";
  HttpOutlet outlet(settings, station);
  auto client = client_of(outlet);
  CHECK(client.Get("/report")->status == 401);
  CHECK(client.Post("/hold")->status == 401);
  CHECK(client.Get("/report", {{"Authorization", "Bearer blue kilt"}})->status == 401);
  CHECK(client.Get("/report", {{"Authorization", "Basic blue kiln"}})->status == 401);
  CHECK(client.Get("/report", {{"Authorization", "Bearer blue kiln"}})->status == 200);
  CHECK(station.commands == 0);
}

TEST_CASE("beyond this machine it wants TLS and a token, and speaks them") {
  FakeStation station;
  station.add(1);
  support::TemporaryFolder folder;
  const auto error = [&](const HttpSettings& settings) {
    return error_of([&] { HttpOutlet outlet(settings, station); });
  };
  CHECK(contains(error({.listen = {"0.0.0.0", 0}}), "beyond this machine: give certificate and key"));
  CHECK(contains(error({.listen = {"0.0.0.0", 0}, .token = "t"}), "give certificate and key"));
  const auto made = support::run(
      "for n in a b; do openssl req -x509 -newkey rsa:2048 -nodes -keyout $n.key -out $n.pem -days 2 -subj "
      "/CN=localhost; done",
      folder.path());
  REQUIRE_MESSAGE(made.status == 0, made.err);
  HttpSettings settings{.listen = {"0.0.0.0", 0}, .certificate = folder / "a.pem", .key = folder / "a.key"};
  CHECK(contains(error(settings), "give a token"));
  settings.token = "t";
  settings.key = folder / "b.key";
  CHECK(contains(error(settings), "do not belong together"));
  settings.key = folder / "none.key";
  CHECK(contains(error(settings), "none.key"));
  settings.key = folder / "a.key";
  HttpOutlet outlet(settings, station);
  httplib::SSLClient client("127.0.0.1", outlet.address().port);
  client.set_ca_cert_path((folder / "a.pem").c_str());
  client.enable_server_certificate_verification(false);
  CHECK(client.Get("/report")->status == 401);
  CHECK(client.Get("/report", {{"Authorization", "Bearer t"}})->status == 200);
  // One that does not speak TLS gets nothing.
  CHECK_FALSE(client_of(outlet).Get("/report"));
}

TEST_CASE("an address that is taken is said") {
  FakeStation station;
  HttpOutlet outlet(here(), station);
  CHECK(contains(error_of([&] { HttpOutlet second({.listen = outlet.address()}, station); }),
                 "cannot listen at"));
}
