// The cart's trips: starts from a seeded set, each on a course of its own; where it ends is judged by the
// simulation alone. `bench_cart [TRIPS] [FIRST_SEED] [tell]`
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <string>

#include "cart/cart_cell.hpp"
#include "heron/base/error.hpp"

using namespace heron;

int main(int argc, char** argv) {
  const int trips = argc > 1 ? std::atoi(argv[1]) : 200;
  const uint64_t seed = argc > 2 ? std::strtoull(argv[2], nullptr, 10) : 5000;
  const bool tell = argc > 3;
  const std::string folder =
      (std::filesystem::temp_directory_path() / ("bench-cart-" + std::to_string(seed))).string();
  const CartCell cell = write_cart_cell(folder, 1);
  prepare_cart_stations(cell, {"127.0.0.1", 1}, {"127.0.0.1", 2}, {"127.0.0.1", 3});
  int good = 0;
  double worst_mm = 0, worst_heading = 0, squares = 0;
  for (int i = 0; i < trips; ++i) {
    const uint64_t own = seed + static_cast<uint64_t>(i);
    Cart cart(render::make_cart_course(own), own);
    CartTrip trip;
    try {
      trip = run_cart_trip(cell, cart);
    } catch (const Error& error) {
      trip.log.end = CartState::lost, trip.log.reason = error.what();
    }
    const double beside = trip.arrival.beside_mm, heading = trip.arrival.heading.degrees();
    const bool docked = trip.log.end == CartState::docked;
    const bool reached = docked && std::abs(beside) <= 1 && std::abs(heading) <= 0.5;
    good += reached;
    if (docked) {
      worst_mm = std::max(worst_mm, std::abs(beside)),
      worst_heading = std::max(worst_heading, std::abs(heading));
      squares += beside * beside;
    }
    if (tell || !reached)
      std::printf(
          "seed %llu: %s, %.3f mm beside the axis, heading %.3f degrees, %.1f mm before the bore; %d "
          "floor and %d door results, %.1f s %s\n",
          static_cast<unsigned long long>(own), docked ? "docked" : "LOST", beside, heading,
          trip.arrival.before_mm, trip.log.floor_results, trip.log.door_results, cart.time_s(),
          trip.log.reason.c_str());
    std::fflush(stdout);
  }
  std::printf("%d of %d trips end within 1 mm and 0.5 degrees; worst %.3f mm, %.3f degrees; rms %.3f mm\n",
              good, trips, worst_mm, worst_heading, std::sqrt(squares / std::max(1, trips)));
  std::filesystem::remove_all(folder);
}
