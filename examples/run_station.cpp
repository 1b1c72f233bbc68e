// Runs a station beside a simulated robot and prints what the robot got.   run_station STATION.toml
// TRUTH.json
#include <cstdio>
#include <future>

#include "heron/base/memory.hpp"
#include "heron/simulation/simulated_robot.hpp"
#include "heron/station/station.hpp"

using namespace heron;

int main(int argc, char** argv) try {
  if (argc != 3) {
    std::fprintf(stderr, "run_station STATION.toml TRUTH.json\n");
    return 2;
  }
  keep_freed_memory();
  // A real robot would be another machine; this one listens on a free port and moves fifty times faster.
  SimulatedRobot robot({.listens = true, .address = {"127.0.0.1", 0}, .time_scale = 50}, load_truth(argv[2]));
  StationFile file = load_station(argv[1]);
  file.link.address = robot.address();

  std::future<RobotLog> robot_side = std::async(std::launch::async, [&] { return robot.run(); });
  {
    Station station(file);
    station.open_link();
    while (const auto report = station.step())
      std::printf("result %llu: %zu parts\n", static_cast<unsigned long long>(report->number),
                  report->parts.size());
  }
  const RobotLog log = robot_side.get();

  for (const Arrival& a : log.arrivals)
    std::printf("%s %d of result %llu: went to (%.3f, %.3f) mm, %.3f degrees; %.4f mm off\n", a.name.c_str(),
                a.index, static_cast<unsigned long long>(a.result), a.sent.x, a.sent.y,
                a.sent.angle.degrees(), a.off_mm);
} catch (const std::exception& error) {
  std::fprintf(stderr, "run_station: %s\n", error.what());
  return 2;
}
