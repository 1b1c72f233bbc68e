#include <fmt/format.h>

#include <cmath>
#include <filesystem>
#include <future>

#include "commands.hpp"
#include "heron/base/error.hpp"
#include "heron/draw/overlay.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/target_file.hpp"
#include "heron/simulation/tray_cell.hpp"
#include "heron/station/station.hpp"
#include "options.hpp"
#include "robot_table.hpp"
#include "steps.hpp"

namespace heron::tool {
namespace {

constexpr double goal_mm = 0.05;

std::string station_text(const Pose2& robot_from_board, const Address& robot) {
  return fmt::format(
      "# The tray station of the demo.\nversion = 1\nname = \"tray station\"\n\n[camera]\nrecording = "
      "\"tray\"\n\n[mapping]\nfile = \"mapping.toml\"\n\n"
      "[frame]  # from `heron calibrate --touch-points touched.csv`\nmount = \"fixed\"\nrobot_from_board = "
      "[{:.5f}, {:.5f}, {:.6f}]  # mm, mm, degrees\n\n"
      "[[target]]\nfile = \"leaf.png\"\n\n[link]\nprotocol = \"text\"\nconnect = \"{}\"\nmode = \"push\"\n",
      robot_from_board.x, robot_from_board.y, robot_from_board.angle.degrees(), robot.text());
}

int run_demo(uint64_t seed, const std::string& folder, double time_scale) {
  fmt::print("1  the cell      heron simulate tray --seed {} --output {}\n", seed, folder);
  const TrayCell cell = write_tray_cell(folder, seed);
  const BoardShape& b = cell.station.board;

  fmt::print(
      "2  the mapping   heron calibrate --board dots --columns {} --rows {} --pitch {:g} board.png --output "
      "mapping.toml\n",
      b.columns, b.rows, b.pitch_mm);
  BoardSummary seen;
  const auto record = mapping_from_pictures({cell.path("board.png")}, b, seen);
  if (!record) return 1;
  save_mapping(cell.path("mapping.toml"), *record);
  save_picture(cell.path("residuals.png"), draw_residuals(grey_levels(load_picture(cell.path("board.png"))),
                                                          record->points, record->mapping));
  fmt::print("                 {} dots, rms {:.4f} px, largest {:.4f} mm\n", record->points.size(),
             record->rms_px, record->largest_mm);

  fmt::print("3  the frame     heron calibrate --touch-points touched.csv\n");
  const auto touched = touched_points(cell.path("touched.csv"));
  const RigidFit frame = fit_rigid(touched.first, touched.second);
  fmt::print("                 robot_from_board {:.3f} {:.3f} mm {:.4f} deg, rms {:.4f} mm\n",
             frame.target_from_source.x, frame.target_from_source.y, frame.target_from_source.angle.degrees(),
             frame.rms_mm);

  const Box& r = cell.teach_region;
  fmt::print("4  the part      heron teach teach.png --region {:g},{:g},{:g},{:g} --output leaf.png\n", r.x,
             r.y, r.width, r.height);
  const PatternTarget target = teach_pattern(grey_levels(load_picture(cell.path("teach.png"))),
                                             Region::rectangle(r), {.name = "leaf"});
  save_target(cell.path("leaf.png"), target);
  save_picture(cell.path("taught.png"), draw_target(target));

  fmt::print(
      "5  the robot     heron simulate robot --listen 127.0.0.1:5017 --truth truth.json\n6  the work      "
      "heron run station.toml\n");
  SimulatedRobot robot({.listens = true, .address = {"127.0.0.1", 0}, .time_scale = time_scale},
                       load_truth(cell.path("truth.json")));
  // The file names the port that the README uses; here any free one serves.
  write_file(cell.path("station.toml"), station_text(frame.target_from_source, {"127.0.0.1", 5017}));
  StationFile file = load_station(cell.path("station.toml"));
  file.link.address = robot.address();
  // The robot works beside the station, as another machine would.
  std::future<RobotLog> robot_side = std::async(std::launch::async, [&] { return robot.run(); });
  Station station(std::move(file));
  station.open_link();
  while (const auto report = station.step()) {
    print_report(*report);
    save_picture(cell.path(fmt::format("found-{:02}.png", report->number)),
                 draw_report(grey_levels(station.picture()), *report));
  }
  const RobotLog log = robot_side.get();
  fmt::print("\nWhere the robot arrived, judged by the truth that only it knows:\n");
  print_robot(log);

  const double worst = worst_mm(log);
  const bool good = log.left_lying == 0 && worst <= goal_mm;
  fmt::print("\nseed {}: {} arrivals, worst {:.4f} mm off (goal {:.2f} mm): {}\n", seed, log.arrivals.size(),
             worst, goal_mm, good ? "reached" : "NOT reached");
  fmt::print("Pictures: {0}/found-01.png (and 02, 03), {0}/residuals.png, {0}/taught.png\n", folder);
  return good ? 0 : 1;
}

}  // namespace

void add_demo(CLI::App& app, Action& action) {
  struct DemoOptions {
    uint64_t seed = 1;
    std::string output = "heron-demo";
    double time_scale = 50;
  };
  auto o = std::make_shared<DemoOptions>();
  CLI::App* c = app.add_subcommand(
      "demo", "Runs the whole job once on simulated machines, from the board to the robot");
  c->add_option("--seed", o->seed, "seed of the random scene")->capture_default_str()->check(not_negative);
  c->add_option("--output", o->output, "folder for all files")->capture_default_str();
  c->add_option("--time-scale", o->time_scale, "factor by which the robot's clock runs faster than real time")
      ->capture_default_str();
  c->footer("Example: heron demo --seed 7\nExit status 1 when an arrival is more than 0.05 mm off.");
  add_demo_cart(*c, action);
  add_demo_bench(*c, action);
  c->require_subcommand(0, 1);
  c->callback([o, c, &action] {
    if (c->get_subcommands().empty()) action = [o] { return run_demo(o->seed, o->output, o->time_scale); };
  });
}

}  // namespace heron::tool
