#include "cart_table.hpp"

#include <fmt/format.h>

#include <cmath>
#include <nlohmann/json.hpp>

namespace heron::tool {
namespace {

const char* word_of(CartState state) {
  switch (state) {
    case CartState::following:
      return "following";
    case CartState::stopped:
      return "stopped";
    case CartState::docked:
      return "docked";
    default:
      return "lost";
  }
}

}  // namespace

bool reached(const CartTrip& trip) {
  return trip.log.end == CartState::docked && std::abs(trip.arrival.beside_mm) <= cart_goal_mm &&
         std::abs(trip.arrival.heading.degrees()) <= cart_goal_degrees;
}

void print_cart(const CartTrip& trip, const Cart& cart) {
  const CartLog& log = trip.log;
  fmt::print(
      "  {} after {:.1f} s and {:.0f} mm, on {} results of the floor's station and {} of the door's{}\n",
      word_of(log.end), cart.time_s(), cart.driven_mm(), log.floor_results, log.door_results,
      log.reason.empty() ? "" : ": " + log.reason);
  if (log.stopped_before_mm > 0)
    fmt::print("  stopped before the kiln, the bore {:.1f} mm before the pin's tip\n", log.stopped_before_mm);
  fmt::print(
      "  the pin's tip ended {:.3f} mm {} of the bore's axis and {:.1f} mm before it, heading {:.3f} degrees "
      "off\n",
      std::abs(trip.arrival.beside_mm), trip.arrival.beside_mm < 0 ? "right" : "left", trip.arrival.before_mm,
      trip.arrival.heading.degrees());
}

std::string cart_json(const CartTrip& trip, const Cart& cart) {
  return nlohmann::ordered_json{{"end", word_of(trip.log.end)},
                                {"reason", trip.log.reason},
                                {"time_s", cart.time_s()},
                                {"driven_mm", cart.driven_mm()},
                                {"floor_results", trip.log.floor_results},
                                {"door_results", trip.log.door_results},
                                {"stopped_before_mm", trip.log.stopped_before_mm},
                                {"beside_mm", trip.arrival.beside_mm},
                                {"heading", trip.arrival.heading.degrees()},
                                {"before_mm", trip.arrival.before_mm},
                                {"reached", reached(trip)}}
      .dump();
}

}  // namespace heron::tool
