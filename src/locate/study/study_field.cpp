#include <algorithm>
#include <cmath>

#include "heron/locate/study.hpp"

namespace heron {
namespace {

void add(FieldMap::Place& place, double score) {
  place.mean = (place.mean * place.count + score) / (place.count + 1);
  ++place.count;
  place.lowest = std::min(place.lowest, score);
}

}  // namespace

int FieldMap::visited() const {
  return static_cast<int>(
      std::count_if(places.begin(), places.end(), [](const Place& p) { return p.count > 0; }));
}

FieldMap map_field(const std::vector<StudiedPicture>& pictures, int width, int height) {
  FieldMap field;
  field.places.resize(static_cast<size_t>(field.columns * field.rows));
  field.bands.resize(4);
  const Point2 centre{0.5 * (width - 1), 0.5 * (height - 1)};
  const double corner = norm(centre + Point2{0.5, 0.5});
  for (const StudiedPicture& picture : pictures)
    for (const StudiedFind& find : picture.finds) {
      if (!find.right) continue;
      const int column = std::clamp(static_cast<int>((find.x + 0.5) / width * field.columns), 0,
                                    field.columns - 1),
                row = std::clamp(static_cast<int>((find.y + 0.5) / height * field.rows), 0, field.rows - 1);
      add(field.places[static_cast<size_t>(row * field.columns + column)], find.score);
      const double out = distance({find.x, find.y}, centre) / corner;
      add(field.bands[static_cast<size_t>(std::clamp(static_cast<int>(4 * out), 0, 3))], find.score);
    }
  return field;
}

}  // namespace heron
