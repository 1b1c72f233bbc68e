#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "cart_table.hpp"
#include "commands.hpp"
#include "heron/base/error.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/render/stack_station.hpp"
#include "heron/simulation/arm_cell.hpp"
#include "heron/simulation/bench_cell.hpp"
#include "heron/simulation/simulated_robot.hpp"
#include "heron/simulation/studio_cell.hpp"
#include "heron/simulation/tray_cell.hpp"
#include "log.hpp"
#include "options.hpp"
#include "robot_table.hpp"

namespace heron::tool {
namespace {

void add_robot(CLI::App& simulate, Action& action) {
  struct SimulateOptions {
    std::string listen, connect, truth, touched;
    std::vector<std::string> looks;
    double timeout_s = 10;
    RobotSettings settings;
    bool json = false;
  };
  auto o = std::make_shared<SimulateOptions>();
  CLI::App* c = simulate.add_subcommand(
      "robot", "Simulates a robot that moves to the reported parts and measures its error against the truth");
  c->add_option("--listen", o->listen,
                "host:port on which the robot waits for the station; port 0: any free port");
  c->add_option("--connect", o->connect, "host:port of a station that listens");
  c->add_option("--truth", o->truth, "truth.json of the simulated cell");
  c->add_option("--touched", o->touched,
                "CSV to write: where each part truly lies, as if it was touched, for `heron verify`");
  c->add_option("--speed", o->settings.speed_mm_s, "mm/s")->capture_default_str();
  c->add_option("--time-scale", o->settings.time_scale,
                "factor by which its clock runs faster than real time")
      ->capture_default_str();
  c->add_option("--timeout", o->timeout_s, "seconds to wait for the station")->capture_default_str();
  c->add_option("--token", o->settings.token, "token that the station expects");
  c->add_option("--memory", o->settings.memory,
                "file in which the robot keeps what it must know after it was switched off in the middle");
  c->add_flag("--ask", o->settings.asks, "requests each part instead of receiving what is sent");
  c->add_option("--select", o->settings.setups,
                "set-ups that it selects in turn, one for each result, such as 1,2")
      ->delimiter(',')
      ->check(CLI::Range(1, 65535));
  c->add_option("--look", o->looks,
                "X,Y,ANGLE of the arm for the next picture, sent with the request; may be repeated")
      ->expected(1)
      ->multi_option_policy(CLI::MultiOptionPolicy::TakeAll);
  c->add_flag("--json", o->json, "prints one JSON object at the end");
  c->footer("Example: heron simulate robot --listen 127.0.0.1:5017 --truth truth.json");
  c->callback([o, &action] {
    action = [o] {
      if (o->listen.empty() == o->connect.empty())
        fail_argument("simulate robot: give either --listen host:port or --connect host:port");
      if (!(o->timeout_s > 0 && o->timeout_s <= 86400))
        fail_argument("simulate robot: --timeout must be above 0 and at most 86400 seconds");
      if (!o->touched.empty() && o->truth.empty())
        fail_argument("simulate robot: --touched writes where parts truly lie, which --truth says");
      require_not_read({o->touched}, {o->truth});
      o->settings.listens = !o->listen.empty();
      o->settings.address = Address::parse(o->settings.listens ? o->listen : o->connect);
      o->settings.timeout = LineSocket::Duration(static_cast<int64_t>(1000 * o->timeout_s));
      for (const std::string& text : o->looks) {
        const auto v = parse_numbers(text, 3, "--look", "X,Y,ANGLE in mm and degrees");
        o->settings.looks.push_back({v[0], v[1], degrees(v[2])});
      }
      SimulatedRobot robot(o->settings, o->truth.empty() ? RobotTruth{} : load_truth(o->truth));
      log_note("simulate robot: {} {}", o->settings.listens ? "listening at" : "connecting to",
               robot.address().text());
      const RobotLog log = robot.run();
      if (!o->touched.empty()) write_file(o->touched, touched_csv(log));
      if (o->json)
        fmt::print("{}\n", robot_json(log));
      else
        print_robot(log);
      return !log.over || log.left_lying > 0 ? 1 : 0;
    };
  });
}

void add_tray(CLI::App& simulate, Action& action) {
  struct SimulateOptions {
    uint64_t seed = 1;
    std::string output;
    render::TrayFilling filling;
  };
  auto o = std::make_shared<SimulateOptions>();
  CLI::App* c = simulate.add_subcommand(
      "tray", "Renders pictures and touched points of the tray station, with their truth");
  c->add_option("--seed", o->seed, "seed of the random scene")->capture_default_str()->check(not_negative);
  c->add_option("--views", o->filling.views, "number of pictures")
      ->capture_default_str()
      ->check(CLI::Range(1, 1000));
  c->add_option("--leaves", o->filling.leaves, "number of leaf tiles in each picture")
      ->capture_default_str()
      ->check(CLI::Range(0, 12));
  c->add_option("--others", o->filling.others, "number of other tiles in each picture")
      ->capture_default_str()
      ->check(CLI::Range(0, 20));
  c->add_flag("--hard", o->filling.hard, "adds uneven light, blur, occlusion and mirrored look-alikes");
  c->add_flag("--marks", o->filling.marks,
              "lays ring marks on the tray, and pushes the camera aside after the first picture");
  c->add_option("--output", o->output, "folder")->required();
  c->footer("Example: heron simulate tray --seed 7 --output cell");
  c->callback([o, &action] {
    action = [o] {
      const TrayCell cell = write_tray_cell(o->output, o->seed, o->filling);
      const Box& r = cell.teach_region;
      fmt::print(
          "{}: board.png, teach.png (leaf tile in {:g},{:g},{:g},{:g}), {}tray/ with {} pictures, known.csv, "
          "touched.csv, pairs.csv, truth.json\n",
          o->output, r.x, r.y, r.width, r.height, o->filling.marks ? "marks.png, " : "",
          cell.station.views.size());
      return 0;
    };
  });
}

void add_bench(CLI::App& simulate, Action& action) {
  struct BenchOptions {
    uint64_t seed = 1;
    std::string output;
    BenchFilling filling;
  };
  auto o = std::make_shared<BenchOptions>();
  CLI::App* c = simulate.add_subcommand(
      "bench", "Renders good and bad parts on the inspection bench, with their truth");
  c->add_option("--seed", o->seed, "seed of the random parts")->capture_default_str()->check(not_negative);
  c->add_option("--pictures", o->filling.pictures, "pictures of each of four families, two parts in each")
      ->capture_default_str()
      ->check(CLI::Range(1, 1000));
  c->add_option("--bad", o->filling.bad_share, "share of the parts that have a defect")
      ->capture_default_str()
      ->check(CLI::Range(0.0, 1.0));
  c->add_option("--defect", o->filling.defect_size, "size of defects in tolerances")
      ->capture_default_str()
      ->check(CLI::Range(0.0, 10.0));
  c->add_option("--output", o->output, "folder")->required();
  c->footer("Example: heron simulate bench --seed 3 --output bench");
  c->callback([o, &action] {
    action = [o] {
      const BenchCell cell = write_bench_cell(o->output, o->seed, o->filling);
      fmt::print("{}: board.png, {} families of parts with {} pictures each, truth.json\n", o->output,
                 cell.families.size(), o->filling.pictures);
      return 0;
    };
  });
}

void add_arm(CLI::App& simulate, Action& action) {
  struct ArmOptions {
    uint64_t seed = 1;
    int stops = 12;
    std::string output;
  };
  auto o = std::make_shared<ArmOptions>();
  CLI::App* c = simulate.add_subcommand(
      "arm", "Renders pictures of a checkerboard from a camera on an arm, with the robot's poses");
  c->add_option("--seed", o->seed, "seed of the random scene")->capture_default_str()->check(not_negative);
  c->add_option("--stops", o->stops, "pictures")->capture_default_str()->check(CLI::Range(1, 99));
  c->add_option("--output", o->output, "folder")->required();
  c->footer("Example: heron simulate arm --seed 1 --output arm");
  c->callback([o, &action] {
    action = [o] {
      const ArmCell cell = write_arm_cell(o->output, o->seed, o->stops);
      fmt::print(
          "{}: stop-01.png to stop-{:02}.png of a checkerboard with {} x {} corners, pitch {:g} mm, and "
          "poses.csv (zyx, degrees)\n",
          o->output, cell.robot_from_flange.size(), cell.board.columns, cell.board.rows, cell.board.pitch_mm);
      return 0;
    };
  });
}

void add_stack(CLI::App& simulate, Action& action) {
  struct StackOptions {
    uint64_t seed = 1;
    std::string output, intensity;
  };
  auto o = std::make_shared<StackOptions>();
  CLI::App* c = simulate.add_subcommand("stack", "Renders a height map of stacked tiles on a tilted table");
  c->add_option("--seed", o->seed, "seed of the random scene")->capture_default_str()->check(not_negative);
  c->add_option("--output", o->output, "height map to write, .tif")->required();
  c->add_option("--intensity", o->intensity, "grey picture of the same scene to write, .png");
  c->footer("Example: heron simulate stack --seed 1 --output stack.tif");
  c->callback([o, &action] {
    action = [o] {
      render::StackStation s = render::make_stack_station(o->seed);
      Picture picture;
      picture.pixels = std::move(s.map), picture.pitch_mm = s.pitch_mm;
      save_picture(o->output, picture);
      if (!o->intensity.empty()) save_picture(o->intensity, s.intensity);
      fmt::print(
          "{}: pitch {:g},{:g} mm; the table is tilted by {:.5f} degrees and lies {:.4f} mm high at the "
          "middle\n",
          o->output, s.pitch_mm.x, s.pitch_mm.y, radians(std::atan(norm(s.slope))).degrees(), s.offset_mm);
      return 0;
    };
  });
}

void add_studio(CLI::App& simulate, Action& action) {
  struct StudioOptions {
    uint64_t seed = 1;
    int pictures = 3;
    bool hard = false;
    std::string output;
  };
  auto o = std::make_shared<StudioOptions>();
  CLI::App* c =
      simulate.add_subcommand("studio", "Renders pictures for every kind of target, with their truth");
  c->add_option("--seed", o->seed, "seed of the random scenes")->capture_default_str()->check(not_negative);
  c->add_option("--pictures", o->pictures, "of each kind")->capture_default_str()->check(CLI::Range(1, 999));
  c->add_flag("--hard", o->hard, "adds uneven light, blur, noise, clutter and occlusion");
  c->add_option("--output", o->output, "folder")->required();
  c->footer("Example: heron simulate studio --hard --output studio");
  c->callback([o, &action] {
    action = [o] {
      for (const StudioSet& set : write_studio(o->output, o->seed, o->pictures, o->hard)) {
        fmt::print(
            "heron teach {0}/teach.png --kind {1} --region {2}{3} --output {0}.png\n"
            "heron {4} {0}.png {0}/pictures{5}\n",
            set.folder, set.kind, set.region, set.options, set.moves ? "track" : "study",
            set.moves ? "" : fmt::format(" --known {}/known.csv", set.folder));
      }
      return 0;
    };
  });
}

void add_cart(CLI::App& simulate, Action& action) {
  struct CartOptions {
    uint64_t seed = 1;
    std::string floor = "127.0.0.1:5021", door = "127.0.0.1:5022", pictures = "127.0.0.1:5023";
    CartSettings cart;
    CartDriving driving;
    bool json = false;
  };
  auto o = std::make_shared<CartOptions>();
  CLI::App* c = simulate.add_subcommand("cart",
                                        "Simulates a cart that drives by the reports of two stations and "
                                        "serves its cameras' pictures over HTTP");
  c->add_option("--seed", o->seed, "seed of the course and the start")
      ->capture_default_str()
      ->check(not_negative);
  c->add_option("--floor", o->floor, "host:port on which it waits for the floor station")
      ->capture_default_str();
  c->add_option("--door", o->door, "host:port where it waits for the door's station")->capture_default_str();
  c->add_option("--pictures", o->pictures, "host:port of its cameras, /floor.png and /door.png")
      ->capture_default_str();
  c->add_option("--latency", o->cart.latency_s, "age of a picture when it is served, seconds")
      ->capture_default_str();
  c->add_option("--slip", o->cart.slip, "how far its wheels may be off, as a share")->capture_default_str();
  c->add_option("--speed", o->driving.speed_mm_s, "mm/s along the stripe")->capture_default_str();
  c->add_flag("--json", o->json, "prints one JSON object at the end");
  c->footer(
      "Example: heron demo cart --output cart; heron simulate cart &\n         heron run cart/floor.toml & "
      "heron run "
      "cart/door.toml\nExit status 1 when it ends more than 1 mm or 0.5 degrees off the bore's axis.");
  c->callback([o, &action] {
    action = [o] {
      Cart cart(render::make_cart_course(o->seed), o->seed, o->cart);
      LineListener floor(Address::parse(o->floor)), door(Address::parse(o->door));
      const CartPictures pictures(cart, Address::parse(o->pictures));
      log_note("simulate cart: waiting for stations at {} and {}, pictures at http://{}",
               floor.address().text(), door.address().text(), pictures.address().text());
      CartTrip trip{drive_cart(cart, floor, door, o->driving), {}};
      trip.arrival = cart.arrival();
      if (o->json)
        fmt::print("{}\n", cart_json(trip, cart));
      else
        print_cart(trip, cart);
      return reached(trip) ? 0 : 1;
    };
  });
}

}  // namespace

void add_simulate(CLI::App& app, Action& action) {
  CLI::App* c =
      app.add_subcommand("simulate", "Simulates machines and scenes: robot, tray, arm, stack, studio, cart");
  c->require_subcommand(1);
  add_robot(*c, action);
  add_tray(*c, action);
  add_arm(*c, action);
  add_bench(*c, action);
  add_stack(*c, action);
  add_studio(*c, action);
  add_cart(*c, action);
}

}  // namespace heron::tool
