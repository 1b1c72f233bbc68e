// What deliveries are worth when everything dies: `bench_delivery [RESULTS] [KILLS] [each|system]`. A station
// with a store runs in a process of its own and is killed KILLS times; its robot cuts the connection as
// often, after the acknowledgement, before it, in the middle of a result, and forgets what it did not write
// down. Counted at the robot: results that were lost, acted on twice, or came out of their order. With 0
// KILLS it is a soak: the station's memory and the store's files after a tenth of the work and near its end.
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <atomic>
#include <cstdio>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <random>
#include <thread>

#include "heron/calibrate/known_length.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/files/target_file.hpp"
#include "heron/simulation/station_peer.hpp"
#include "heron/station/station.hpp"

using namespace heron;
using namespace std::chrono_literals;
using Clock = std::chrono::steady_clock;

namespace {

constexpr int width = 96, height = 72;

/// A dark stud on a bright plate.
Image<uint8_t> stud_picture() {
  Image<uint8_t> picture(width, height);
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x) {
      const double edge = std::clamp(18 - std::hypot(x - 47.3, y - 35.8) + 0.5, 0.0, 1.0);
      picture(x, y) = static_cast<uint8_t>(200 - 150 * edge + ((7 * x + 13 * y) % 5));
    }
  return picture;
}

/// The same picture at once, until the station has as many results as are wanted.
class Endless : public Camera {
 public:
  explicit Endless(std::atomic<int64_t>& left) : left_(left) { picture_.pixels = stud_picture(); }
  CameraInfo info() const override {
    return {.address = "endless", .name = "endless", .width = width, .height = height};
  }
  std::optional<Picture> take() override {
    if (left_-- <= 0) return std::nullopt;
    return picture_;
  }

 private:
  std::atomic<int64_t>& left_;
  Picture picture_;
};

StationFile station_file(const std::string& folder, uint16_t port, StoreSync sync) {
  StationFile file;
  file.name = "bench", file.setup.mapping = folder + "/mapping.toml", file.setup.camera = "endless";
  file.setup.targets = {{.file = folder + "/stud.png"}};
  file.setup.quick = true;
  file.store = StationStore{.results = {.folder = folder + "/store", .sync = sync, .keep_results = 5000}};
  file.link.address = {"127.0.0.1", port};
  file.link.timeout = 20s;
  return file;
}

int run_station(const std::string& folder, uint16_t port, int64_t results, StoreSync sync) {
  std::atomic<int64_t> left = 0;
  Station station(station_file(folder, port, sync), std::make_unique<Endless>(left));
  station.open_link();
  left = results - static_cast<int64_t>(station.taken_before());
  while (station.step()) {
  }
  return 0;
}

/// What the robot did, which it cannot forget.
struct Ledger {
  std::vector<uint8_t> acted;
  uint64_t newest = 0;
  int64_t twice = 0, lost = 0, backwards = 0, repeats = 0, cuts = 0, sessions = 0;

  explicit Ledger(int64_t results) : acted(static_cast<size_t>(results) + 2) {}
  void act(uint64_t number) {
    if (number >= acted.size()) return void(++lost);
    if (acted[number]++) ++twice;
    if (number < newest) ++backwards;
    if (number > newest + 1) lost += static_cast<int64_t>(number - newest - 1);
    newest = std::max(newest, number);
  }
};

class Robot {
 public:
  Robot(Ledger& ledger, int64_t results, int64_t cuts)
      : ledger_(ledger), listener_({}), chance_(static_cast<double>(cuts) / static_cast<double>(results)) {}
  Address address() const { return listener_.address(); }

  /// Until the station says that nothing follows.
  void work() {
    while (!over_)
      if (auto socket = listener_.accept(60s)) serve(StationPeer(std::move(*socket), LinkMode::push));
  }

 private:
  using StationLine = text_protocol::StationLine;

  void serve(StationPeer peer) {
    using namespace text_protocol;
    while (!over_) {
      const auto line = peer.listen(60s);
      if (!line) return;
      if (const auto* hello = std::get_if<Hello>(&*line)) {
        if (hello->session != session_)
          session_ = hello->session, newest_ = 0, done_ = true, ++ledger_.sessions;
        if (done_ && newest_ > 0) peer.say(Done{newest_});
      } else if (std::holds_alternative<EndOfResults>(*line)) {
        over_ = true;
      } else if (const auto* end = std::get_if<End>(&*line)) {
        if (!take(end->number, peer)) return;
      } else if (std::holds_alternative<Part>(*line) && dies()) {
        return;
      }
    }
  }

  /// False when it dies on the way; what it wrote down stays.
  bool take(uint64_t number, StationPeer& peer) {
    using namespace text_protocol;
    if (dies()) return false;  // before it wrote anything
    if (number <= newest_) {
      ++ledger_.repeats;
      return peer.say(Ack{number}) && peer.say(Done{number});
    }
    newest_ = number, done_ = false;
    const bool dies_before_ack = dies();
    if (!dies_before_ack) peer.say(Ack{number});
    ledger_.act(number);  // back again, it goes on with what it wrote down
    done_ = true;
    if (dies_before_ack || dies()) return false;
    return peer.say(Done{number});
  }

  bool dies() {
    const bool now = std::uniform_real_distribution<>()(random_) < chance_ / 4;  // four places a result
    ledger_.cuts += now;
    return now;
  }

  Ledger& ledger_;
  LineListener listener_;
  double chance_;
  std::mt19937 random_{20261201};
  std::string session_;  // what it writes down
  uint64_t newest_ = 0;
  bool done_ = true, over_ = false;
};

/// Memory of a process and size of the store's files, in MB.
std::pair<double, double> sizes(pid_t process, const std::string& folder) {
  long pages = 0, resident = 0;
  std::ifstream("/proc/" + std::to_string(process) + "/statm") >> pages >> resident;
  double files = 0;
  std::error_code gone;
  for (const auto& entry : std::filesystem::directory_iterator(folder + "/store", gone))
    files += static_cast<double>(std::filesystem::file_size(entry, gone));
  return {static_cast<double>(resident) * static_cast<double>(sysconf(_SC_PAGESIZE)) / 1e6, files / 1e6};
}

pid_t begin_station(const char* program, const std::string& folder, uint16_t port, int64_t results,
                    const char* sync) {
  const pid_t child = fork();
  if (child == 0) {
    execl(program, program, "--station", folder.c_str(), std::to_string(port).c_str(),
          std::to_string(results).c_str(), sync, nullptr);
    _exit(127);
  }
  return child;
}

void write_files(const std::string& folder) {
  const Image<uint8_t> picture = stud_picture();
  MappingRecord record;
  record.mapping = mapping_of_length({.from = {10, 10}, .to = {60, 10}, .length_mm = 25}, width, height);
  record.made_from = "length", record.world = "picture";
  record.width = width, record.height = height, record.date = "2026-01-01T00:00:00Z";
  save_mapping(folder + "/mapping.toml", record);
  save_target(folder + "/stud.png",
              teach_target("marker", {.grey = picture, .region = Region::rectangle({24, 12, 48, 48})},
                           {.name = "stud"}));
}

int run_bench(const char* program, int64_t results, int64_t kills, const char* sync) {
  char folder[] = "/tmp/heron-delivery-XXXXXX";
  if (!mkdtemp(folder)) return 2;
  write_files(folder);
  Ledger ledger(results);
  Robot robot(ledger, results, kills);
  const auto begun = Clock::now();
  std::atomic<bool> over = false;
  std::thread side([&] { robot.work(), over = true; });
  // Kills are spread over the work by the numbers that are done.
  std::mt19937 random(7);
  int64_t killed = 0, failed = 0;
  while (!over) {
    const pid_t child = begin_station(program, folder, robot.address().port, results, sync);
    const uint64_t until = static_cast<uint64_t>(
        static_cast<double>(results) * static_cast<double>(killed + 1) / static_cast<double>(kills + 1));
    int status = 0;
    uint64_t looks_at = static_cast<uint64_t>(results) / 10;
    while (waitpid(child, &status, WNOHANG) == 0) {
      if (kills == 0 && ledger.newest >= looks_at) {
        const auto [memory, files] = sizes(child, folder);
        std::printf("after %llu results: %.1f MB of memory, %.1f MB of files\n",
                    static_cast<unsigned long long>(ledger.newest), memory, files);
        looks_at += static_cast<uint64_t>(results) / 5;
      }
      if (killed < kills && ledger.newest >= until) {
        std::this_thread::sleep_for(
            std::chrono::microseconds(std::uniform_int_distribution<>(0, 2000)(random)));
        kill(child, SIGKILL);
        waitpid(child, &status, 0);
        ++killed;
        break;
      }
      std::this_thread::sleep_for(500us);
    }
    if (WIFEXITED(status) && WEXITSTATUS(status) != 0 && ++failed > 20) break;
    if (WIFEXITED(status) && WEXITSTATUS(status) == 0 && !over) std::this_thread::sleep_for(100ms);
  }
  over ? side.join() : side.detach();
  int64_t missing = 0;
  for (int64_t n = 1; n <= results; ++n) missing += ledger.acted[static_cast<size_t>(n)] == 0;
  const double seconds = std::chrono::duration<double>(Clock::now() - begun).count();
  std::printf(
      "sync %s: %lld results, %lld kills of the station, %lld cuts by the robot, %lld sent again, %.0f s\n",
      sync, static_cast<long long>(results), static_cast<long long>(killed),
      static_cast<long long>(ledger.cuts), static_cast<long long>(ledger.repeats), seconds);
  std::printf("lost %lld, twice %lld, out of order %lld, sessions %lld, stations that failed %lld\n",
              static_cast<long long>(missing + ledger.lost), static_cast<long long>(ledger.twice),
              static_cast<long long>(ledger.backwards), static_cast<long long>(ledger.sessions),
              static_cast<long long>(failed));
  std::filesystem::remove_all(folder);
  return missing + ledger.lost + ledger.twice + ledger.backwards == 0 && over ? 0 : 1;
}

}  // namespace

int main(int count, char** words) {
  const auto sync_of = [](const char* word) {
    return std::strcmp(word, "system") == 0 ? StoreSync::system : StoreSync::each;
  };
  try {
    if (count == 6 && std::strcmp(words[1], "--station") == 0)
      return run_station(words[2], static_cast<uint16_t>(std::stoi(words[3])), std::stoll(words[4]),
                         sync_of(words[5]));
    return run_bench(words[0], count > 1 ? std::stoll(words[1]) : 20000,
                     count > 2 ? std::stoll(words[2]) : 100, count > 3 ? words[3] : "each");
  } catch (const std::exception& error) {
    std::fprintf(stderr, "bench_delivery: %s\n", error.what());
    return 2;
  }
}
