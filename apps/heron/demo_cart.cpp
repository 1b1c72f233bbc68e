#include <fmt/format.h>

#include <cmath>
#include <map>

#include "cart/cart_cell.hpp"
#include "cart_table.hpp"
#include "commands.hpp"
#include "heron/base/error.hpp"
#include "heron/draw/overlay.hpp"
#include "heron/draw/way_picture.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/files/picture_file.hpp"
#include "options.hpp"
#include "steps.hpp"

namespace heron::tool {
namespace {

// The cart's addresses in the files; the demo itself uses whatever ports are free.
const Address floor_address{"127.0.0.1", 5021}, door_address{"127.0.0.1", 5022},
    pictures_address{"127.0.0.1", 5023};

/// Pictures of the trip that are worth keeping, each with what was found in it.
class Album {
 public:
  explicit Album(const CartCell& cell) : cell_(cell) {}
  void keep(bool floor, const Report& report, const Picture& picture) {
    drawn_[floor] = std::holds_alternative<Image<Rgb>>(picture.pixels)
                        ? draw_report(std::get<Image<Rgb>>(picture.pixels), report)
                        : draw_report(grey_levels(picture), report);
  }
  void save(bool floor, const std::string& name) const {
    const auto drawn = drawn_.find(floor);
    if (drawn != drawn_.end()) save_picture(cell_.path(name), drawn->second);
  }

 private:
  const CartCell& cell_;
  std::map<bool, Image<Rgb>> drawn_;
};

void print_calibration(const CartCell& cell, const std::string& name) {
  const MappingRecord r = load_mapping(cell.path(name + "-mapping.toml"));
  const Lens& lens = r.mapping.camera()->camera().lens;
  fmt::print("                 {:<5} {} pictures of the board: focal {:.2f} px, k1 {:.4f}, rms {:.3f} px\n",
             name, cell.views, lens.fx, lens.k1, r.rms_px);
}

int run_demo_cart(uint64_t seed, const std::string& folder) {
  fmt::print("1  the cart      its cameras look at a board, at the stripe, and at the door ({})\n", folder);
  const CartCell cell = write_cart_cell(folder, seed);
  fmt::print("2  the stations  calibrated and taught, written as floor.toml and door.toml\n");
  prepare_cart_stations(cell, floor_address, door_address, pictures_address);
  print_calibration(cell, "floor");
  print_calibration(cell, "door");

  Cart cart(render::make_cart_course(seed), seed);
  const Pose2 start = cart.course().start;
  fmt::print("3  the trip      from {:.0f} mm beside the stripe, heading {:.1f} degrees off it\n", start.y,
             start.angle.degrees());
  Album album(cell);
  CartState before = CartState::following;
  std::vector<size_t> marked;
  int steps = 0;
  const CartTrip trip = run_cart_trip(
      cell, cart, {},
      [&](bool floor, const Report& report, const Picture& picture) { album.keep(floor, report, picture); },
      [&](CartState now) {
        ++steps;
        if (steps == 45) album.save(true, "cart-bend.png"), marked.push_back(cart.way().size() - 1);
        if (now != before && now == CartState::stopped)
          album.save(false, "cart-stop.png"), marked.push_back(cart.way().size() - 1);
        before = now;
      });
  album.save(false, "cart-docked.png");
  marked.push_back(cart.way().size() - 1);
  print_cart(trip, cart);
  const bool good = reached(trip);
  DrivenWay way{.planned_mm = cart.course().stripe,
                .planned_width_mm = cart.course().stripe_width_mm,
                .driven = cart.way(),
                .tip_mm = cart.course().pin,
                .goal = cart.course().world_from_bore,
                .goal_within_mm = cart_goal_mm};
  way.marked = marked;
  way.words = {fmt::format("cart, seed {}: {:.1f} s, {} floor and {} door results; 1 in the bend, 2 stopped "
                           "before the kiln, 3 "
                           "docked",
                           seed, cart.time_s(), trip.log.floor_results, trip.log.door_results),
               fmt::format("{:.3f} mm beside the bore's axis, heading {:.3f} degrees", trip.arrival.beside_mm,
                           trip.arrival.heading.degrees())};
  save_picture(cell.path("cart-way.png"), draw_way(way));
  fmt::print(
      "\nseed {}: {:.3f} mm beside the bore's axis (goal {:g} mm), heading {:.3f} degrees (goal {:g}): {}\n",
      seed, std::abs(trip.arrival.beside_mm), cart_goal_mm, std::abs(trip.arrival.heading.degrees()),
      cart_goal_degrees, good ? "reached" : "NOT reached");
  fmt::print("Pictures: {0}/cart-way.png, cart-bend.png, cart-stop.png, cart-docked.png\n", folder);
  return good ? 0 : 1;
}

}  // namespace

void add_demo_cart(CLI::App& demo, Action& action) {
  struct CartDemoOptions {
    uint64_t seed = 1;
    std::string output = "heron-demo-cart";
  };
  auto o = std::make_shared<CartDemoOptions>();
  CLI::App* c = demo.add_subcommand(
      "cart",
      "Runs a simulated cart that follows a stripe and docks at a peg bore, by the reports of two stations");
  c->add_option("--seed", o->seed, "seed of the course and the start")
      ->capture_default_str()
      ->check(not_negative);
  c->add_option("--output", o->output, "folder for everything it makes")->capture_default_str();
  c->footer(
      "Example: heron demo cart --seed 7\nExit status 1 when it ends more than 1 mm or 0.5 degrees off.");
  c->callback([o, &action] { action = [o] { return run_demo_cart(o->seed, o->output); }; });
}

}  // namespace heron::tool
