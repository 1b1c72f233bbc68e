#include <cstdio>

#include "heron/locate/pattern.hpp"
#include "heron/locate/prepared_picture.hpp"

using namespace heron;

int main() {
  Image<uint8_t> picture(200, 160);
  for (int y = 0; y < 160; ++y)
    for (int x = 0; x < 200; ++x)
      picture(x, y) =
          (x > 60 && x < 90 && y > 40 && y < 120) || (x > 60 && x < 140 && y > 90 && y < 120) ? 200 : 50;
  const PatternTarget letter = teach_pattern(picture, Region::rectangle({45, 25, 110, 110}));
  const FindResult found = find(letter, PreparedPicture(Image<uint8_t>(picture)), {.min_score = 90});
  std::printf("%zu found at (%.3f, %.3f)\n", found.detections.size(), found.detections.at(0).x,
              found.detections.at(0).y);
  return found.detections.size() == 1 ? 0 : 1;
}
