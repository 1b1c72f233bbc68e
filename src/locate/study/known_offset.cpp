#include <algorithm>

#include "heron/base/median.hpp"
#include "heron/locate/study.hpp"

namespace heron {
namespace {

/// A find and the known part that is nearest to it.
struct Pair {
  Point2 place;  ///< of the known one, in the frame of the found one
  Angle found;
  std::optional<Angle> known;
};

std::optional<Pair> with_nearest(const StudiedFind& find, const std::vector<KnownPart>& parts, double size) {
  std::optional<Pair> nearest;
  for (const KnownPart& part : parts) {
    const Point2 place = rotated(Point2{part.x - find.x, part.y - find.y}, -find.angle) / find.scale;
    if (norm(place) < (nearest ? norm(nearest->place) : size)) nearest = Pair{place, find.angle, part.angle};
  }
  return nearest;
}

template <class Value>
double median_of(const std::vector<Pair>& pairs, const Value& value) {
  std::vector<double> values;
  for (const Pair& p : pairs) values.push_back(value(p));
  return median(values);
}

}  // namespace

std::optional<KnownOffset> offset_of_known(const Target& target,
                                           const std::vector<StudiedPicture>& pictures) {
  const double size = std::hypot(target.extent().width, target.extent().height),
               period = target.symmetry_order() != 0 ? 360.0 / target.symmetry_order() : 0;
  std::vector<Pair> pairs;
  size_t finds = 0;
  for (const StudiedPicture& picture : pictures)
    for (const StudiedFind& f : picture.finds) {
      if (f.right) return std::nullopt;
      if (!f.within) continue;
      ++finds;
      if (const auto pair = with_nearest(f, picture.parts, size)) pairs.push_back(*pair);
    }
  if (pairs.empty()) return std::nullopt;

  const Point2 place{median_of(pairs, [](const Pair& p) { return p.place.x; }),
                     median_of(pairs, [](const Pair& p) { return p.place.y; })};
  for (const bool other_sense : {false, true}) {
    // Degrees by which a pair's known angle is off one that is turned by `turn`.
    const auto off = [&](const Pair& p, Angle turn) {
      if (!p.known || period == 0) return 0.0;
      return std::remainder((*p.known - (other_sense ? -p.found : p.found) - turn).degrees(), period);
    };
    // Angles have no middle by themselves; counted from one of them, they have.
    const Angle one = degrees(off(pairs.front(), {})),
                turn = (one + degrees(median_of(pairs, [&](const Pair&p) { return off(p, one); }))).wrapped();
    const auto alike = std::count_if(pairs.begin(), pairs.end(), [&](const Pair& p) {
      return distance(p.place, place) < 0.05 * size && std::abs(off(p, turn)) < 5;
    });
    if (5 * static_cast<size_t>(alike) >= 4 * finds) return KnownOffset{place, turn, other_sense};
  }
  return std::nullopt;
}

}  // namespace heron
