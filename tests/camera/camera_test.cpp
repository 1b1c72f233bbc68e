#include <doctest/doctest.h>
#include <httplib.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cmath>
#include <filesystem>
#include <thread>

#include "heron/base/error.hpp"
#include "heron/camera/camera.hpp"
#include "heron/camera/exposure.hpp"
#include "heron/camera/genicam_camera.hpp"
#include "heron/camera/http_camera.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/recording.hpp"
#include "heron/link/line_socket.hpp"
#include "heron/render/random.hpp"
#include "heron/simulation/simulated_camera.hpp"
#include "patience.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using namespace heron;

using support::contains;
using support::error_of;

namespace {

Image<uint8_t> flat(int width, int height, uint8_t grey) {
  Image<uint8_t> image(width, height);
  for (int y = 0; y < height; ++y) std::fill_n(image.row(y), width, grey);
  return image;
}

std::string png_bytes(uint8_t grey) {
  const support::TemporaryFolder folder;
  save_picture(folder / "a.png", flat(40, 30, grey).view());
  return support::read_text(folder / "a.png");
}

/// A real HTTP server on loopback, as a camera in the house would be one.
struct Server {
  httplib::Server server;
  int port;
  std::thread thread;
  Server() {
    server.Get("/still", [](const httplib::Request&, httplib::Response& r) {
      r.set_content(png_bytes(70), "image/png");
    });
    server.Get("/page", [](const httplib::Request&, httplib::Response& r) {
      r.set_content("<html>no picture</html>", "text/html");
    });
    server.Get("/slow", [](const httplib::Request&, httplib::Response& r) {
      std::this_thread::sleep_for(std::chrono::milliseconds(900));
      r.set_content(png_bytes(70), "image/png");
    });
    const auto stream = [](bool with_length, int parts) {
      return [=](const httplib::Request&, httplib::Response& r) {
        r.set_content_provider("multipart/x-mixed-replace; boundary=frame",
                               [=](size_t, httplib::DataSink& sink) {
                                 for (int k = 0; k < parts; ++k) {
                                   const std::string body = png_bytes(static_cast<uint8_t>(80 + k));
                                   std::string part = "--frame\r\nContent-Type: image/png\r\n";
                                   if (with_length)
                                     part += "Content-Length: " + std::to_string(body.size()) + "\r\n";
                                   part += "\r\n" + body + "\r\n";
                                   if (!sink.write(part.data(), part.size())) return false;
                                 }
                                 sink.done();
                                 return true;
                               });
      };
    };
    server.Get("/stream", stream(true, 5));
    server.Get("/unmeasured", stream(false, 5));
    server.Get("/ended", stream(false, 0));
    port = server.bind_to_any_port("127.0.0.1");
    thread = std::thread([this] { server.listen_after_bind(); });
  }
  ~Server() {
    server.stop();
    thread.join();
  }
  std::string at(const std::string& path) const { return "http://127.0.0.1:" + std::to_string(port) + path; }
};

/// The GenICam program that comes with Aravis, on loopback; ended with the scope.
struct FakeGigE {
  pid_t process = 0;
  FakeGigE() {
    std::fflush(nullptr);
    process = fork();
    if (process == 0) {
      if (!std::freopen("/dev/null", "w", stdout)) _exit(1);
      execlp("arv-fake-gv-camera-0.8", "arv-fake-gv-camera-0.8", "-i", "127.0.0.1", nullptr);
      _exit(127);
    }
    for (int k = 0; k < 10 && !listed(); ++k) std::this_thread::sleep_for(std::chrono::milliseconds(200));
  }
  static bool listed() {
    const std::vector<CameraInfo> cameras = list_genicam();
    return std::any_of(cameras.begin(), cameras.end(),
                       [](const CameraInfo& c) { return contains(c.address, "Fake"); });
  }
  void end() {
    if (process <= 0) return;
    kill(process, SIGTERM);
    waitpid(process, nullptr, 0);
    process = 0;
  }
  ~FakeGigE() { end(); }
};

}  // namespace

TEST_CASE("a recording is a camera: in order, at once or at its own pace, until it ends") {
  const support::TemporaryFolder folder;
  Recording r{folder.path(), {}};
  for (int k = 0; k < 3; ++k) {
    r.pictures.push_back({"p" + std::to_string(k) + ".png", 0.15 * k, 4.0 + k, 1.5});
    save_picture(r.path(static_cast<size_t>(k)), flat(20, 10, static_cast<uint8_t>(50 + k)).view());
  }
  save_recording(r);
  for (const Pace pace : {Pace::at_once, Pace::as_taken}) {
    const auto camera = open_recording(folder.path(), pace);
    const auto begun = std::chrono::steady_clock::now();
    for (int k = 0; k < 3; ++k) {
      const auto picture = camera->take();
      REQUIRE(picture);
      CHECK(grey_levels(*picture)(3, 3) == 50 + k);
      CHECK(picture->exposure_ms == 4.0 + k);
    }
    CHECK_FALSE(camera->take());
    const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
    CHECK((seconds >= 0.29) == (pace == Pace::as_taken));
    CHECK_THROWS_AS(camera->set_exposure_ms(3), Error);
  }
  r.pictures[1].at_s = 9;
  save_recording(r);
  CHECK(contains(error_of([&] { load_recording(folder.path()); }), "earlier than"));
}

TEST_CASE("the simulated camera obeys exposure and gain, and is brought to a brightness") {
  const auto camera = open_simulated(3);
  const auto mean = [&] {
    const Image<uint8_t> g = grey_levels(*camera->take());
    double sum = 0;
    for (int y = 0; y < g.height(); ++y)
      for (int x = 0; x < g.width(); ++x) sum += g(x, y);
    return sum / (g.width() * g.height());
  };
  camera->set_exposure_ms(4);
  const double dark = mean();
  camera->set_exposure_ms(8);
  camera->take(), camera->take();  // back to the first view
  CHECK(mean() == doctest::Approx(2 * dark).epsilon(0.05));
  CHECK_THROWS_WITH_AS(camera->set_exposure_ms(500), doctest::Contains("outside 0.05..50"), Error);

  for (const double start : {0.3, 50.0}) {
    camera->set_exposure_ms(start);
    const BrightnessReached b = bring_to_brightness(*camera, {}, {.level = 190});
    CHECK(b.reached);
    CHECK(std::abs(b.level - 190) <= 8);
    CHECK(b.pictures <= 10);
  }
  // Exposure may not be long enough: gain does the rest.
  camera->set_exposure_ms(1);
  const BrightnessReached short_one =
      bring_to_brightness(*camera, {}, {.level = 190, .longest_ms = 4, .tolerance = 10});
  CHECK(short_one.reached);
  CHECK(short_one.exposure_ms <= 4);
  CHECK(*short_one.gain > 1.5);
  camera->set_gain(1);
  const BrightnessReached hopeless = bring_to_brightness(*camera, {}, {.level = 200, .longest_ms = 0.05});
  CHECK_FALSE(hopeless.reached);
  CHECK(contains(hopeless.reason, "give more light"));
  CHECK_THROWS_AS(bring_to_brightness(*camera, {}, {.level = 300}), Error);
}

TEST_CASE("several exposures merge into one picture that holds bright and dark, in proportion to the light") {
  // A ramp of light over three powers of ten; a sensor that is linear, clips at 255 and has noise.
  render::Random random(1);
  const int width = 300;
  std::vector<Image<uint8_t>> pictures;
  const std::vector<double> exposures = {1, 8, 64};
  const auto light = [&](int x) {
    return 2.5 * std::pow(10, 2.0 * x / width);
  };  // grey levels a millisecond, 2.5 to 250
  for (const double ms : exposures) {
    Image<uint8_t> p(width, 20);
    for (int y = 0; y < 20; ++y)
      for (int x = 0; x < width; ++x)
        p(x, y) = static_cast<uint8_t>(std::clamp(std::lround(light(x) * ms + random.normal()), 0L, 255L));
    pictures.push_back(std::move(p));
  }
  const Image<uint16_t> merged = merge_exposures(pictures, exposures);
  const double scale = merged(width - 1, 10) / light(width - 1);
  for (int x = 0; x < width; x += 7) CHECK(merged(x, 10) / scale == doctest::Approx(light(x)).epsilon(0.05));
  CHECK_THROWS_AS(merge_exposures({pictures[0]}, {1}), Error);
  CHECK_THROWS_AS(merge_exposures(pictures, {1, 8, 8}), Error);
  CHECK_THROWS_AS(merge_exposures({pictures[0], Image<uint8_t>(3, 3)}, {1, 2}), Error);
}

TEST_CASE("an HTTP camera gives stills and streams, and says what is wrong with those that are none") {
  const Server server;
  CHECK(grey_levels(*open_http(server.at("/still"))->take())(5, 5) == 70);
  for (const char* path : {"/stream", "/unmeasured"}) {
    const auto camera = open_http(server.at(path));
    for (int k = 0; k < 2; ++k) CHECK(grey_levels(*camera->take())(5, 5) == 80);
  }
  CHECK(contains(error_of([&] { open_http(server.at("/none"))->take(); }), "status 404"));
  CHECK(contains(error_of([&] { open_http(server.at("/page"))->take(); }), "neither PNG nor JPEG"));
  CHECK(contains(error_of([&] { open_http(server.at("/ended"))->take(); }), "ended before"));
  CHECK(error_of([&] { open_http(server.at("/slow"), {std::chrono::milliseconds(200)})->take(); }) != "");
  CHECK(error_of([&] { open_http("http://127.0.0.1:1/x")->take(); }) != "");
  CHECK_THROWS_AS(open_http("ftp://somewhere"), Error);
  CHECK_THROWS_AS(open_http("http://"), Error);
}

TEST_CASE(
    "an HTTP server that drips, never ends its header or answers with interim answers is given up in time") {
  using namespace std::chrono_literals;
  const auto slow_from = [](const std::vector<std::string>& lines, const std::string& again,
                            std::chrono::milliseconds pause) {
    LineListener listener({"127.0.0.1", 0});
    std::atomic<bool> done = false;
    std::thread server([&] {
      auto socket = listener.accept(patience);
      for (const std::string& line : lines) socket->write(line + "\r");
      while (!done && socket->write(again, 500ms)) std::this_thread::sleep_for(pause);
    });
    const std::string address = "http://" + listener.address().text() + "/";
    const auto begun = std::chrono::steady_clock::now();
    const std::string why = error_of([&] { open_http(address, {.wait = 700ms})->take(); });
    CHECK(std::chrono::steady_clock::now() - begun < 3000ms);
    done = true;
    server.join();
    return why;
  };
  const std::string ok = "HTTP/1.1 200 OK", png = "Content-Type: image/png";
  CHECK(contains(slow_from({ok, png, ""}, "", 100ms), "no whole picture within 700 ms"));  // a byte at a time
  CHECK(contains(slow_from({ok}, std::string(1 << 20, 'x'), 0ms), "header"));
  CHECK(slow_from({}, "HTTP/1.1 100 Continue\r\n\r", 1ms) != "");
  CHECK(contains(slow_from({"HTTP/1.1 100 Continue"}, "X: y\r", 100ms), "no whole picture within 700 ms"));
  CHECK(contains(slow_from({ok, "Content-Length: 10", "", "not a pic"}, "", 100ms), "neither PNG"));
}

TEST_CASE("every wait of a camera ends within a tenth of a second of a stop") {
  using namespace std::chrono_literals;
  const Server server;
  const FakeGigE fake;
  const support::TemporaryFolder folder;
  Recording r{folder.path(), {{"a.png", 0.0}, {"b.png", 3600.0}}};
  for (size_t k = 0; k < 2; ++k) save_picture(r.path(k), flat(20, 10, 50).view());
  save_recording(r);
  const auto stopped = [&](const std::string& k) {
    Work stop;
    const CameraTimeout timeout{.wait = 60000ms, .stop = &stop};
    const auto camera = k == "http"      ? open_http(server.at("/slow"), timeout)
                        : k == "genicam" ? open_genicam("127.0.0.1", timeout)
                                         : open_recording(folder.path(), Pace::as_taken, &stop);
    if (k == "recording") CHECK(camera->take());
    if (k == "genicam") kill(fake.process, SIGSTOP);  // it never sends
    std::chrono::steady_clock::time_point asked;
    std::thread stopper([&] {
      std::this_thread::sleep_for(200ms);
      asked = std::chrono::steady_clock::now();
      stop.stop();
      if (k == "genicam") kill(fake.process, SIGCONT);  // commands sent before may wait for an answer
    });
    std::optional<Picture> picture;
    const std::string trouble = error_of([&] { picture = camera->take(); });
    const auto took = std::chrono::steady_clock::now() - asked;
    stopper.join();
    CHECK_FALSE(picture);
    if (k != "genicam") CHECK(trouble == "");
    return took;
  };
  for (const char* kind : {"http", "genicam", "recording"}) {
    CAPTURE(kind);
    CHECK(within(900ms, [&] { return stopped(kind); }));  // a tenth of a second, and a busy machine
  }
}

TEST_CASE("a picture's time is the middle of its exposure") {
  using namespace std::chrono_literals;
  const FakeGigE fake;
  const auto camera = open_genicam("127.0.0.1");
  camera->set_exposure_ms(40);
  const auto asked = std::chrono::system_clock::now();
  const auto picture = camera->take();
  const auto came = std::chrono::system_clock::now();
  REQUIRE(picture);
  CHECK(picture->taken > asked - 60ms);
  CHECK(picture->taken < came - 20ms);  // half an exposure before it arrived
}

TEST_CASE("a stream is cut into parts wherever its bytes are split, and garbage does no harm") {
  const std::string stream =
      "noise\r\n--b\r\nContent-Length: 5\r\n\r\nhello\r\n--b\r\n\r\nworld wide\r\n--b\r\nX: "
      "y\r\ncontent-length:3\r\n\r\nend\r\n--b--";
  for (size_t step = 1; step < stream.size(); ++step) {
    MultipartParser cutter("b");
    std::vector<std::string> parts;
    for (size_t at = 0; at < stream.size(); at += step) {
      cutter.feed(stream.data() + at, std::min(step, stream.size() - at));
      while (auto part = cutter.next()) parts.push_back(*part);
    }
    CHECK(parts == std::vector<std::string>{"hello", "world wide", "end"});
  }
  MultipartParser small("b", 1000);
  const std::string huge = "--b\r\nContent-Length: 99999999\r\n\r\n";
  small.feed(huge.data(), huge.size());
  CHECK_THROWS_AS(small.next(), Error);
  CHECK_THROWS_AS(MultipartParser(""), Error);
  render::Random random(2);
  for (int run = 0; run < 300; ++run) {
    MultipartParser cutter("--b", 5000);
    std::string bytes;
    for (int k = 0; k < 200; ++k) bytes += "\r\n-b:Content-Length 12"[random.whole(0, 21)];
    cutter.feed(bytes.data(), bytes.size());
    try {
      while (cutter.next()) {
      }
    } catch (const Error&) {
    }
  }
}

TEST_CASE("a GenICam camera on loopback is found, set, gives pictures, and its end is noticed") {
  FakeGigE fake;
  CHECK(fake.listed());
  const auto camera = open_genicam("127.0.0.1", {std::chrono::milliseconds(sanitized ? 10000 : 5000)});
  const CameraInfo info = camera->info();
  CHECK(info.width > 0);
  REQUIRE(info.exposure_ms);
  camera->set_exposure_ms(12);
  CHECK(camera->exposure_ms() == doctest::Approx(12));
  const auto picture = camera->take();
  REQUIRE(picture);
  CHECK(picture->width() == info.width);
  CHECK(picture->exposure_ms == doctest::Approx(12));
  CHECK_THROWS_AS(camera->set_exposure_ms(1e9), Error);
  fake.end();
  CHECK_THROWS_AS(camera->take(), Error);
  CHECK_THROWS_AS(open_genicam("no such camera"), Error);
}

TEST_CASE("a GenICam picture of which packets are lost is exposed again while there is timeout") {
  const FakeGigE fake;
  const auto patient = open_genicam("127.0.0.1", {std::chrono::milliseconds(20000)});
  std::atomic<bool> done = false;
  // The sender stands still long enough that what it has begun counts as lost.
  std::thread interrupts([&] {
    for (int k = 0; !done; ++k) {
      kill(fake.process, SIGSTOP);
      std::this_thread::sleep_for(std::chrono::milliseconds(150));
      kill(fake.process, SIGCONT);
      std::this_thread::sleep_for(std::chrono::milliseconds(100 + 37 * (k % 5)));
    }
  });
  int whole = 0;
  for (int k = 0; k < 10; ++k) {
    const std::string trouble = error_of([&] { whole += patient->take()->width() > 0; });
    CHECK(trouble == "");
  }
  done = true;
  interrupts.join();
  CHECK(whole == 10);
}

TEST_CASE("video devices that are none are refused") {
  CHECK(contains(error_of([] { open_v4l2("/dev/video-none"); }), "cannot be opened"));
  CHECK(contains(error_of([] { open_v4l2("/dev/null"); }), "is no camera"));
  for (const CameraInfo& c : list_v4l2()) CHECK(contains(c.address, "v4l2:/dev/video"));
}
