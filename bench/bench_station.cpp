// What a station at work costs beyond finding: from the picture in memory to its message read at the other
// end of a loopback socket, and what memory it takes anew for each picture. `bench_station [FOLDER]
// [PICTURES] [plain|outlets|outlets-system]`: FOLDER holds a station.toml that pushes to a robot, as demo/
// does. Freed memory is kept, as the tool keeps it; with `plain` the C library does as it likes. With
// `outlets` a store is on (synced for each result; or not, as its setting `sync = "system"` has it), a broker
// of its own gets the reports, and a reader over HTTP.
#include <signal.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <new>
#include <thread>

#include "heron/base/error.hpp"
#include "heron/base/memory.hpp"
#include "heron/http_link/http_outlet.hpp"
#include "heron/link/text_protocol.hpp"
#include "heron/mqtt_link/mqtt_outlet.hpp"
#include "heron/station/station.hpp"

using namespace heron;
using Clock = std::chrono::steady_clock;

namespace {

constexpr size_t large = 16 << 10;  // bytes: pictures and columns, not words and lists
std::atomic<size_t> pieces{0}, bytes{0}, large_bytes{0};

void* counted(void* memory, size_t size) {
  if (!memory) throw std::bad_alloc();
  pieces.fetch_add(1, std::memory_order_relaxed), bytes.fetch_add(size, std::memory_order_relaxed);
  if (size >= large) large_bytes.fetch_add(size, std::memory_order_relaxed);
  return memory;
}

void* aligned(size_t size, std::align_val_t to) {
  const auto step = static_cast<size_t>(to);
  return counted(std::aligned_alloc(step, (size + step - 1) / step * step), size);
}

}  // namespace

// Every piece of memory that the program asks for, its libraries' own C calls aside.
void* operator new(size_t size) { return counted(std::malloc(size ? size : 1), size); }
void* operator new(size_t size, std::align_val_t to) { return aligned(size, to); }
void operator delete(void* memory) noexcept { std::free(memory); }
void operator delete(void* memory, size_t) noexcept { std::free(memory); }
void operator delete(void* memory, std::align_val_t) noexcept { std::free(memory); }
void operator delete(void* memory, size_t, std::align_val_t) noexcept { std::free(memory); }

namespace {

int64_t page_faults() {
  rusage usage{};
  getrusage(RUSAGE_SELF, &usage);
  return usage.ru_minflt;
}

/// The moment at which a picture is in memory.
struct Taken {
  Clock::time_point at = Clock::now();
  size_t pieces_so_far = pieces, bytes_so_far = bytes, large_so_far = large_bytes;
  int64_t faults_so_far = page_faults();
};

/// Hands out the pictures of a recording again and again, from memory.
class Replay : public Camera {
 public:
  /// `count` pictures, and before them each of the recording three times to warm up.
  Replay(Camera& recording, int count) {
    while (auto picture = recording.take()) pictures_.push_back(std::move(*picture));
    if (pictures_.empty()) fail_argument("bench_station: the recording holds no picture");
    count_ = count + warm();
  }
  int warm() const { return 3 * static_cast<int>(pictures_.size()); }
  CameraInfo info() const override { return {.address = "replay", .name = "replay"}; }
  std::optional<Picture> take() override {
    if (given_ == count_) return std::nullopt;
    Picture picture = pictures_[static_cast<size_t>(given_++) % pictures_.size()];
    taken_ = Taken();  // its copy is the camera's affair
    return picture;
  }
  const Taken& taken() const { return taken_; }

 private:
  int count_ = 0, given_ = 0;
  std::vector<Picture> pictures_;
  Taken taken_;
};

/// A robot that is there at once and done at once; tells when each result had come in whole.
class Listener {
 public:
  Listener() : listener_({}), thread_([this] { serve(); }) {}
  ~Listener() { thread_.join(); }
  Address address() const { return listener_.address(); }
  Clock::time_point came_at() const { return Clock::time_point(Clock::duration(came_at_.load())); }

 private:
  void serve() {
    using namespace text_protocol;
    auto socket = listener_.accept(LineSocket::Duration(20000));
    std::string line;
    while (socket && socket->read(line, LineSocket::Duration(60000)) == LineSocket::Wait::line) {
      const auto now = Clock::now();
      const auto parsed = parse_station_line(line);
      if (!parsed.line) continue;
      if (const End* end = std::get_if<End>(&*parsed.line)) {
        came_at_.store(now.time_since_epoch().count());
        socket->write(encode(RobotLine(Ack{end->number}))),
            socket->write(encode(RobotLine(Done{end->number})));
      } else if (std::holds_alternative<Hello>(*parsed.line)) {
        socket->write(encode(RobotLine(Robot{})));
      } else if (std::holds_alternative<EndOfResults>(*parsed.line)) {
        return;
      }
    }
  }

  LineListener listener_;
  std::atomic<Clock::rep> came_at_{0};
  std::thread thread_;
};

double at_share(std::vector<double> values, double share) {
  std::sort(values.begin(), values.end());
  return values[static_cast<size_t>(share * static_cast<double>(values.size() - 1))];
}

void told(const char* what, const std::vector<double>& values, const char* unit) {
  std::printf("%-44s %10.3f %10.3f %10.3f %10.3f  %s\n", what, at_share(values, 0.5), at_share(values, 0.9),
              at_share(values, 0.99), at_share(values, 1), unit);
}

constexpr uint16_t broker_port = 18839;

/// A program that ends with this.
class Program {
 public:
  Program(const char* name, std::vector<const char*> words) : process_(fork()) {
    if (process_ != 0) return;
    words.insert(words.begin(), name), words.push_back(nullptr);
    if (!freopen("/dev/null", "w", stdout) || !freopen("/dev/null", "w", stderr)) _exit(126);
    execvp(name, const_cast<char* const*>(words.data()));
    _exit(127);
  }
  ~Program() { kill(process_, SIGTERM), waitpid(process_, nullptr, 0); }
  Program(const Program&) = delete;
  Program& operator=(const Program&) = delete;

 private:
  pid_t process_;
};

/// A broker, a reader over HTTP, and a store, for as long as a station is measured.
struct Outlets {
  std::string folder = "/tmp/heron-bench-station-" + std::to_string(getpid());
  Program broker{"mosquitto", {"-p", "18839"}};
  std::optional<Program> reader;

  void before(StationFile& file, StoreSync sync) const {
    file.store = StationStore{.results = {.folder = folder, .sync = sync}};
  }
  void open(Station& station) {
    station.add_outlet(std::make_unique<MqttOutlet>(
        MqttSettings{.broker = {"127.0.0.1", broker_port}, .topic = "bench"}, station.port()));
    auto http = std::make_unique<HttpOutlet>(HttpSettings{.listen = {"127.0.0.1", 0}}, station.port());
    const std::string address = "http://" + http->address().text() + "/events";
    reader.emplace("curl", std::vector<const char*>{"-s", "-N", address.c_str()});
    station.add_outlet(std::move(http));
  }
  void told(const Station& station) const {
    for (const auto& outlet : station.outlets())
      std::printf("%s: %lld reports sent, %lld waiting\n", outlet->text().c_str(),
                  static_cast<long long>(outlet->counts().sent),
                  static_cast<long long>(outlet->counts().waiting));
  }
  ~Outlets() { std::filesystem::remove_all(folder); }
};

void measure(const std::string& folder, int pictures, std::optional<StoreSync> sync) {
  StationFile file = load_station(folder + "/station.toml");
  Listener robot;
  file.link.listens = false, file.link.address = robot.address(), file.link.mode = LinkMode::push;
  auto recording = open_recording(file.setup.camera.substr(file.setup.camera.find(':') + 1));
  auto camera = std::make_unique<Replay>(*recording, pictures);
  const Replay& replay = *camera;
  std::optional<Outlets> outlets;
  if (sync) outlets.emplace().before(file, *sync);
  Station station(file, std::move(camera));
  station.open_link();
  if (outlets) outlets->open(station);
  std::vector<double> finding, beyond, asked, asked_kib, asked_large, faults;
  for (int i = 0;; ++i) {
    const auto report = station.step();
    if (!report) break;
    if (i < replay.warm()) continue;
    const Taken& since = replay.taken();
    const double whole_ms = std::chrono::duration<double, std::milli>(robot.came_at() - since.at).count();
    finding.push_back(report->elapsed_ms), beyond.push_back(whole_ms - report->elapsed_ms);
    asked.push_back(static_cast<double>(pieces - since.pieces_so_far));
    asked_kib.push_back(static_cast<double>(bytes - since.bytes_so_far) / 1024);
    asked_large.push_back(static_cast<double>(large_bytes - since.large_so_far) / 1024);
    faults.push_back(static_cast<double>(page_faults() - since.faults_so_far));
  }
  std::printf("%zu pictures of %s after %d to warm up\n", finding.size(), folder.c_str(), replay.warm());
  std::printf("%-44s %10s %10s %10s %10s\n", "", "median", "90 %", "99 %", "most");
  told("finding", finding, "ms");
  told("all else, until the message is read", beyond, "ms");
  told("memory asked for: pieces", asked, "");
  told("memory asked for", asked_kib, "KiB");
  told("of it in pieces of 16 KiB or more", asked_large, "KiB");
  told("pages new from the system", faults, "of 4 KiB");
  if (outlets) outlets->told(station);
}

}  // namespace

int main(int argc, char** argv) {
  const std::string how = argc > 3 ? argv[3] : "";
  if (how != "plain") keep_freed_memory();
  try {
    measure(argc > 1 ? argv[1] : "demo", argc > 2 ? std::max(20, std::atoi(argv[2])) : 1000,
            how == "outlets"          ? std::optional(StoreSync::each)
            : how == "outlets-system" ? std::optional(StoreSync::system)
                                      : std::nullopt);
  } catch (const Error& e) {
    std::fprintf(stderr, "%s\n", e.what());
    return 1;
  }
}
