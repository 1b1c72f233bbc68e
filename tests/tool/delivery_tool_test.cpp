// Station and robot are killed in the middle, again and again: docs/delivery.md.
#include <doctest/doctest.h>

#include <sys/socket.h>
#include <sys/un.h>
#include <unistd.h>

#include <array>
#include <atomic>
#include <nlohmann/json.hpp>
#include <set>
#include <sstream>
#include <thread>

#include "heron/simulation/station_peer.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using nlohmann::json;
using support::contains;
using support::TemporaryFolder;

namespace {

const std::string tool = HERON_TOOL;
constexpr int picture_count = 60, views = 2, leaves = 3;

/// A tray with a long recording: its views again and again.
struct LongRun {
  TemporaryFolder folder;
  std::string frame;

  LongRun() {
    const auto made = run("simulate tray --seed 11 --views 2 --leaves 3 --others 1 --output .");
    const size_t at = made.out.find(" in ") + 4;
    const std::string region = made.out.substr(at, made.out.find(')') - at);
    REQUIRE(run("calibrate --board dots --columns 13 --rows 11 --pitch 18 board.png --output mapping.toml")
                .status == 0);
    REQUIRE(run("teach teach.png --region " + region + " --output leaf.png").status == 0);
    const std::string said = run("calibrate --touch-points touched.csv").out;
    frame = said.substr(said.find("[frame]"));
    std::filesystem::create_directory(folder / "long");
    std::vector<std::string> tray;
    for (const auto& entry : std::filesystem::directory_iterator(folder / "tray"))
      if (entry.path().extension() == ".png") tray.push_back(entry.path());
    std::sort(tray.begin(), tray.end());
    for (int i = 0; i < picture_count; ++i)
      std::filesystem::create_symlink(tray.at(static_cast<size_t>(i % views)),
                                      folder / ("long/" + std::to_string(i) + ".png"));
  }
  support::Ran run(const std::string& arguments) const {
    return support::run(tool + " " + arguments, folder.path());
  }
  support::Ran run_for(double seconds, const std::string& arguments) const {
    return support::run(
        "timeout -s KILL " + std::to_string(seconds) + " " + tool + " " + arguments + "; exit $?",
        folder.path());
  }
  void write_station(const std::string& name, const std::string& link, const std::string& store) const {
    support::write_text(folder / name,
                        "version = 1\nname = \"tray\"\n[camera]\nrecording = \"long\"\n[mapping]\nfile = "
                        "\"mapping.toml\"\n" +
                            frame + "[[target]]\nfile = \"leaf.png\"\n[store]\n" + store +
                            "\n[link]\nprotocol = \"text\"\n" + link + "\n");
  }
};

const LongRun& long_run() {
  static const LongRun shared;
  return shared;
}

/// What a robot's memory says it did.
struct Done {
  int sessions = 0;
  std::vector<std::pair<int, int>> went;  // result and part
  std::vector<int> finished;

  explicit Done(const std::string& file) {
    std::istringstream lines(support::read_text(file));
    for (std::string line; std::getline(lines, line);) {
      const json j = json::parse(line);
      sessions += j.contains("session");
      if (j.contains("went")) went.emplace_back(j["went"][0], j["went"][1]);
      if (j.contains("finished")) finished.push_back(j["finished"]);
    }
  }
};

void check_each_once(const Done& done) {
  CHECK(done.sessions == 1);
  REQUIRE(done.finished.size() == picture_count);
  for (int i = 0; i < picture_count; ++i) CHECK(done.finished[static_cast<size_t>(i)] == i + 1);
  REQUIRE(done.went.size() == picture_count * leaves);
  for (int i = 0; i < picture_count * leaves; ++i)
    CHECK(done.went[static_cast<size_t>(i)] == std::pair(i / leaves + 1, i % leaves + 1));
}

}  // namespace

TEST_CASE("killed again and again, station and robot lose no result and repeat none") {
  for (const bool asks : {false, true}) {
    const std::string name = asks ? "ask" : "push", port = asks ? "5931" : "5930";
    long_run().write_station(name + ".toml",
                             "connect = \"127.0.0.1:" + port + "\"\ntimeout_s = 20\nmode = \"" + name + "\"",
                             "folder = \"" + name + "-store\"\ngive_up_s = \"never\"");
    std::atomic<bool> over = false;
    std::atomic<int> robots_killed = 0;
    // The station may be killed after it told the robot that all is done: a robot is there until it ends.
    std::jthread robot([&] {
      for (int i = 0; !over; ++i) {
        const auto ran = long_run().run_for((i % 4 == 3 ? 5 : 0.7 + 0.13 * (i % 30)) * (sanitized ? 10 : 1),
                                            "simulate robot --listen 127.0.0.1:" + port +
                                                " --time-scale 100000 --memory " + name + ".memory" +
                                                (asks ? " --ask" : ""));
        robots_killed += ran.status == 137;
      }
    });
    int killed = 0, status = 137;
    for (int i = 0; status == 137 && i < 200; ++i) {
      // Each round of 17 lives longer, so that a slow machine comes to the end as well.
      const auto ran =
          long_run().run_for((0.35 + 0.041 * (i % 17)) * (1 + 0.5 * (i / 17)) * (sanitized ? 10 : 1),
                             "run " + name + ".toml --json");
      status = ran.status;
      killed += status == 137;
      REQUIRE_MESSAGE((status == 137 || status == 0), ran.err);
    }
    over = true;
    robot.join();
    CHECK(status == 0);
    CHECK(killed > 3);
    MESSAGE(name << ": the station was killed " << killed << " times, the robot " << robots_killed.load()
                 << " times");
    check_each_once(Done(long_run().folder / (name + ".memory")));
    // Another start has nothing left to do, and says so.
    std::thread waiting([&] {
      long_run().run("simulate robot --listen 127.0.0.1:" + port + " --time-scale 100000 --memory " + name +
                     ".memory" + (asks ? " --ask" : ""));
    });
    const auto again = long_run().run("run " + name + ".toml");
    waiting.join();
    CHECK(again.status == 0);
    CHECK(contains(again.err, "has results of 60 pictures"));
    CHECK(contains(again.err, "0 pictures, 0 parts"));
    check_each_once(Done(long_run().folder / (name + ".memory")));
  }
}

TEST_CASE("a result that waited longer than the user allows is given up, and said") {
  const auto write = [](const std::string& waits) {
    long_run().write_station("old.toml", "connect = \"127.0.0.1:5932\"\nmode = \"push\"\n" + waits,
                             "folder = \"old-store\"\ngive_up_s = 0\npictures = \"all\"\nkeep_pictures = 2");
  };
  write("timeout_s = 0.3");
  // Nobody is there: the first picture is not even taken.
  CHECK(contains(long_run().run("run old.toml").err, "no robot at 127.0.0.1:5932"));
  // A robot that greets and never acknowledges: result 1 waits in the store.
  heron::LineListener listener(heron::Address::parse("127.0.0.1:5932"));
  std::optional<heron::LineListener> open(std::move(listener));
  write("timeout_s = 20\nacknowledge_s = 0.3");
  std::atomic<bool> over = false;
  std::thread deaf([&] {
    while (!over) {
      auto socket = open->accept(std::chrono::milliseconds(100));
      if (!socket) continue;
      heron::StationPeer peer(std::move(*socket), heron::LinkMode::push);
      while (peer.listen(std::chrono::seconds(20))) {
      }
    }
  });
  const auto ended = long_run().run("run old.toml --json");
  over = true;
  deaf.join();
  open.reset();
  CHECK(ended.status == 2);
  CHECK(contains(ended.out, "\"number\":1"));
  write("timeout_s = 20");
  std::thread robot([] {
    long_run().run("simulate robot --listen 127.0.0.1:5932 --time-scale 100000 --memory old.memory");
  });
  const auto ran = long_run().run("run old.toml --json");
  robot.join();
  CHECK(ran.status == 0);
  CHECK(contains(ran.err, "result 1 is given up: "));
  CHECK(contains(ran.err, "1 result given up"));
  CHECK(contains(ran.err, "ms to look at, 99 % of them at most"));
  const Done done(long_run().folder / "old.memory");
  REQUIRE(done.finished.size() == picture_count - 1);
  CHECK(done.finished.front() == 2);
  // The raw pictures of the newest two.
  CHECK(std::filesystem::exists(long_run().folder / "old-store/pictures/000060.png"));
  CHECK(std::filesystem::exists(long_run().folder / "old-store/pictures/000059.png"));
  CHECK_FALSE(std::filesystem::exists(long_run().folder / "old-store/pictures/000058.png"));
}

TEST_CASE("stored pictures are looked at again, with what differs since") {
  const std::string link = "connect = \"127.0.0.1:5934\"\nmode = \"push\"\ntimeout_s = 20",
                    store = "folder = \"replayed\"\ngive_up_s = 5\npictures = \"all\"\nkeep_pictures = 3";
  long_run().write_station("replay.toml", link, store);
  CHECK(contains(long_run().run("replay replay.toml").err, "results.db"));  // nothing is stored yet
  std::thread robot([] { long_run().run("simulate robot --listen 127.0.0.1:5934 --time-scale 100000"); });
  CHECK(long_run().run("run replay.toml --quiet").status == 0);
  robot.join();
  const std::string before = support::read_text(long_run().folder / "replayed/results.db");
  const auto same = long_run().run("replay replay.toml");
  CHECK(same.status == 0);
  CHECK(contains(same.err, "0 of 3 results differ, 57 have no picture"));
  CHECK(contains(same.out, "replay     60  "));
  CHECK(contains(same.out, "as then, 3 parts"));
  // A range that is too narrow: what is gone, and why.
  std::string narrow = support::read_text(long_run().folder / "replay.toml");
  narrow.insert(narrow.find("[store]"), "angle = [170, 175]\n");
  support::write_text(long_run().folder / "narrow.toml", narrow);
  const auto other = long_run().run("replay narrow.toml --from 59 --to 59 --json --pictures again");
  CHECK(other.status == 1);
  CHECK(contains(other.err, "1 of 1 results differ; the settings have changed since 1"));
  const json line = json::parse(other.out);
  CHECK(line["replay"] == true);
  CHECK(line["number"] == 59);
  CHECK(line["then"]["found"].size() == 3);
  CHECK(line["now"]["found"].size() < 3);
  REQUIRE(!line["differences"].empty());
  CHECK(contains(line["differences"][0].get<std::string>(), " is gone: angle "));
  CHECK(std::filesystem::exists(long_run().folder / "again/replay-000059.png"));
  // How score and time went over all sixty, also those without a picture.
  CHECK(long_run().run("replay replay.toml --drift drift.png").status == 0);
  CHECK(heron::load_picture(long_run().folder / "drift.png").width() == 1280);
  const auto none = long_run().run("replay narrow.toml --drift none.png");
  CHECK(none.status == 1);
  CHECK(contains(none.err, "60 results of other settings are left out"));
  CHECK(contains(none.err, "nothing was drawn"));
  CHECK_FALSE(std::filesystem::exists(long_run().folder / "none.png"));
  const std::string target = support::read_text(long_run().folder / "leaf.png");
  CHECK(long_run().run("replay replay.toml --drift leaf.png").status == 2);
  CHECK(long_run().run("run replay.toml --reports leaf.png").status == 2);
  CHECK(support::read_text(long_run().folder / "leaf.png") == target);
  CHECK(long_run().run("replay replay.toml --drift drift.bmp").status == 2);
  CHECK(long_run().run("replay replay.toml --drift drift.png --bad").status == 2);
  CHECK(long_run().run("replay replay.toml --set-up 2").status == 2);
  CHECK(contains(long_run().run("replay replay.toml --drift drift.png --set-up 2").err, "one of 0"));
  CHECK(long_run().run("replay narrow.toml --bad").out.empty());  // all were good
  CHECK(long_run().run("replay replay.toml --from 5 --to 4").status == 2);
  CHECK(support::read_text(long_run().folder / "replayed/results.db") == before);
}

TEST_CASE("run reports ready, alive, its progress and stopping to a service manager") {
  long_run().write_station("service.toml", "connect = \"127.0.0.1:5935\"\nmode = \"push\"\ntimeout_s = 20",
                           "folder = \"service-store\"\ngive_up_s = 5");
  const int manager = socket(AF_UNIX, SOCK_DGRAM, 0);
  sockaddr_un at{};
  at.sun_family = AF_UNIX;
  const std::string path = long_run().folder / "notify";
  REQUIRE(path.size() < sizeof at.sun_path);
  std::copy(path.begin(), path.end(), at.sun_path);
  REQUIRE(bind(manager, reinterpret_cast<const sockaddr*>(&at), sizeof at) == 0);
  std::vector<std::string> heard;
  std::jthread listening([&](const std::stop_token& over) {
    const timeval wait{0, 100000};
    setsockopt(manager, SOL_SOCKET, SO_RCVTIMEO, &wait, sizeof wait);
    std::array<char, 500> text{};
    while (!over.stop_requested())
      if (const ssize_t size = recv(manager, text.data(), text.size(), 0); size > 0)
        heard.emplace_back(text.data(), static_cast<size_t>(size));
  });
  std::thread robot([] { long_run().run("simulate robot --listen 127.0.0.1:5935 --time-scale 100000"); });
  const auto ran =
      support::run("NOTIFY_SOCKET=" + path + " WATCHDOG_USEC=150000 " + tool + " run service.toml --quiet",
                   long_run().folder.path());
  robot.join();
  listening.request_stop();
  listening.join();
  close(manager);
  CHECK(ran.status == 0);
  const auto count = [&](const std::string& text) { return std::count(heard.begin(), heard.end(), text); };
  CHECK(count("READY=1") == 1);
  CHECK(count("WATCHDOG=1") > 5);
  CHECK(count("STATUS=tray: 60 pictures, 180 parts") == 1);
  CHECK(heard.back() == "STOPPING=1");
}

TEST_CASE("stores that cannot be used are refused before the first picture") {
  const auto refused = [](const std::string& store, const std::string& why) {
    long_run().write_station("bad.toml", "connect = \"127.0.0.1:5933\"\ntimeout_s = 0.2\nmode = \"push\"",
                             store);
    const auto ran = long_run().run("run bad.toml");
    CHECK(ran.status == 2);
    CHECK_MESSAGE(contains(ran.err, why), ran.err);
  };
  refused("folder = \"x\"", "give_up_s");
  refused("folder = \"x\"\ngive_up_s = \"soon\"", "\"never\"");
  refused("folder = \"x\"\ngive_up_s = -1", "must be from 0 to");
  refused("give_up_s = 5", "folder");
  refused("folder = \"x\"\ngive_up_s = 5\nkeep = 3", "'keep' is an unknown key");
  refused("folder = \"x\"\ngive_up_s = 5\nkeep_results = 0", "must be at least 1");
  refused("folder = \"x\"\ngive_up_s = 5\nmax_mb = 0.5", "must be from 1 to");
  refused("folder = \"x\"\ngive_up_s = 5\nsync = \"never\"", "sync");
  refused("folder = \"x\"\ngive_up_s = 5\npictures = \"some\"", "pictures");
  refused("folder = \"leaf.png/x\"\ngive_up_s = 5", "leaf.png");
  // A dry run leaves the store alone: its numbers are not the station's.
  long_run().write_station("bad.toml", "connect = \"127.0.0.1:5933\"\nmode = \"push\"",
                           "folder = \"dry\"\ngive_up_s = 5");
  CHECK(long_run().run("run bad.toml --dry-run").status == 0);
  CHECK_FALSE(std::filesystem::exists(long_run().folder / "dry"));
}
