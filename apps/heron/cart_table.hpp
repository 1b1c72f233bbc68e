#pragma once
#include <string>

#include "cart/cart_cell.hpp"

namespace heron::tool {

inline constexpr double cart_goal_mm = 1, cart_goal_degrees = 0.5;

/// Docked, on the bore's axis and along it.
bool reached(const CartTrip& trip);
/// What the cart went through and where it ended, for people; and as one JSON object.
void print_cart(const CartTrip& trip, const Cart& cart);
std::string cart_json(const CartTrip& trip, const Cart& cart);

}  // namespace heron::tool
