#pragma once
#include <cmath>
#include <compare>
#include <numbers>

namespace heron {

/// An angle, and the direction of something in a picture: from +x towards +y, clockwise as seen since y
/// points down. A direction in the world is a `WorldAngle`.
class Angle {
 public:
  constexpr Angle() = default;
  constexpr double radians() const { return radians_; }
  constexpr double degrees() const { return radians_ * (180.0 / std::numbers::pi); }
  constexpr auto operator<=>(const Angle&) const = default;

  constexpr Angle operator-() const { return Angle(-radians_); }
  constexpr Angle operator+(Angle other) const { return Angle(radians_ + other.radians_); }
  constexpr Angle operator-(Angle other) const { return Angle(radians_ - other.radians_); }
  constexpr Angle operator*(double factor) const { return Angle(radians_ * factor); }
  constexpr Angle operator/(double divisor) const { return Angle(radians_ / divisor); }

  /// The same direction in (-180, 180] degrees.
  Angle wrapped() const {
    const double turn = 2 * std::numbers::pi;
    double r = std::remainder(radians_, turn);
    if (r <= -std::numbers::pi) r += turn;
    return Angle(r);
  }

 private:
  constexpr explicit Angle(double radians) : radians_(radians) {}
  friend constexpr Angle radians(double);
  friend constexpr Angle degrees(double);
  double radians_ = 0;
};

constexpr Angle radians(double value) { return Angle(value); }
constexpr Angle degrees(double value) { return Angle(value * (std::numbers::pi / 180.0)); }

inline double sin(Angle a) { return std::sin(a.radians()); }
inline double cos(Angle a) { return std::cos(a.radians()); }
constexpr Angle abs(Angle a) { return a.radians() < 0 ? -a : a; }

/// A direction in the world: from +X towards +Y, counter-clockwise as seen from above. It does not mix with
/// picture angles, whose sense is the other one; a mapping converts (`Mapping::world_angle`).
class WorldAngle {
 public:
  constexpr WorldAngle() = default;
  /// Turned by `turn` from +X towards +Y.
  constexpr explicit WorldAngle(Angle turn) : turn_(turn) {}
  constexpr Angle turn() const { return turn_; }
  constexpr double radians() const { return turn_.radians(); }
  constexpr double degrees() const { return turn_.degrees(); }
  constexpr auto operator<=>(const WorldAngle&) const = default;

  constexpr WorldAngle operator-() const { return WorldAngle(-turn_); }
  constexpr WorldAngle operator+(WorldAngle other) const { return WorldAngle(turn_ + other.turn_); }
  constexpr WorldAngle operator-(WorldAngle other) const { return WorldAngle(turn_ - other.turn_); }

  /// The same direction in (-180, 180] degrees.
  WorldAngle wrapped() const { return WorldAngle(turn_.wrapped()); }

 private:
  Angle turn_;
};

inline double sin(WorldAngle a) { return sin(a.turn()); }
inline double cos(WorldAngle a) { return cos(a.turn()); }

inline namespace literals {
constexpr Angle operator""_deg(long double value) { return degrees(static_cast<double>(value)); }
constexpr Angle operator""_deg(unsigned long long value) { return degrees(static_cast<double>(value)); }
}  // namespace literals

}  // namespace heron
