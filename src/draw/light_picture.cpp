#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "canvas.hpp"
#include "heron/draw/overlay.hpp"

namespace heron {
namespace {

using namespace draw;

constexpr Color clipped_color{1.0, 0.35, 0.25}, black_color{0.35, 0.65, 1.0};

Color color_of(Fitness f) {
  return f == Fitness::unknown ? Color{0.75, 0.75, 0.75}
         : f == Fitness::good  ? Color{0.8, 1.0, 0.85}
         : f == Fitness::fair  ? Color{1.0, 0.9, 0.4}
                               : Color{1.0, 0.6, 0.5};
}
const char* sign_of(Fitness f) {
  return f == Fitness::unknown ? "-" : f == Fitness::good ? "good" : f == Fitness::fair ? "FAIR" : "POOR";
}

Image<uint8_t> mask_of(const ImageView<const uint8_t>& picture, const Region& region, int from, int to) {
  Image<uint8_t> mask(picture.width(), picture.height());
  for (int y = 0; y < mask.height(); ++y)
    for (int x = 0; x < mask.width(); ++x)
      if (picture(x, y) >= from && picture(x, y) <= to &&
          (region.empty() || region.contains({static_cast<double>(x), static_cast<double>(y)})))
        mask(x, y) = 255;
  return mask;
}

/// The histogram with heights as square roots, so that rare levels show; the clipped ends in their colors.
void draw_histogram(Canvas& canvas, const std::array<int, 256>& histogram, Point2 corner, double width,
                    double height) {
  const double most = std::sqrt(*std::max_element(histogram.begin(), histogram.end()));
  for (int level = 0; level < 256; ++level) {
    const double bar = most > 0 ? height * std::sqrt(histogram[static_cast<size_t>(level)]) / most : 0;
    canvas.patch({corner.x + width * level / 256, corner.y + height - bar}, width / 256 + 0.3, bar,
                 level >= 254 ? clipped_color
                 : level <= 1 ? black_color
                              : Color{0.8, 0.84, 0.88});
  }
  for (const int level : {0, 64, 128, 192, 255})
    canvas.label({corner.x + width * level / 256 - 9, corner.y + height + 3}, fmt::format("{}", level),
                 {1, 1, 1}, 10);
  canvas.label({corner.x - 4, corner.y + height + 22}, "grey level; heights: square root of the pixels",
               {1, 1, 1}, 11);
}

constexpr double row = 23, histogram_width = 300, histogram_height = 110, histogram_room = 190;

/// Words and histogram stand below the picture, beside each other where it is wide enough.
struct Panel {
  bool beside;
  int height;
  Panel(int width, size_t rows)
      : beside(width >= 900),
        height(static_cast<int>(beside ? std::max(row * static_cast<double>(rows) + 20, histogram_room)
                                       : row * static_cast<double>(rows) + 20 + histogram_room)) {}
};

constexpr uint8_t panel_grey = 20;

/// As wide as its words need, also below a narrow picture.
Image<uint8_t> with_panel(const ImageView<const uint8_t>& picture, int height) {
  Image<uint8_t> all(std::max(picture.width(), 560), picture.height() + height);
  for (int y = 0; y < all.height(); ++y) {
    std::fill_n(all.row(y), all.width(), panel_grey);
    if (y < picture.height()) std::copy_n(picture.row(y), picture.width(), all.row(y));
  }
  return all;
}

}  // namespace

Image<Rgb> draw_light(const ImageView<const uint8_t>& picture, const LightReport& report,
                      const Region& region) {
  const Panel panel(picture.width(), report.measures.size() + 1);
  Canvas canvas(with_panel(picture, panel.height));
  canvas.stripes(mask_of(picture, region, 254, 255), clipped_color, false);
  canvas.stripes(mask_of(picture, region, 0, 1), black_color, true);
  if (!region.empty()) {
    const Box b = region.bounds();
    canvas.box({b.x, b.y}, b.width, b.height, region_color, Stroke::dashed);
  }
  for (const GlareSpot& g : report.glares) {
    canvas.ring(g.centre, g.radius_px + 12, axis_color, 2, Stroke::dashed);
    canvas.label(g.centre + Point2{g.radius_px + 16, -8}, "glare", axis_color);
  }
  double y = picture.height() + 8;
  for (const LightMeasure& m : report.measures) {
    canvas.label({8, y}, fmt::format("{}  {}: {}", sign_of(m.fitness), m.name, m.words), color_of(m.fitness),
                 13);
    y += row;
  }
  canvas.label({8, y}, "striped red: white, 254 and above; striped blue: black, 1 and below", {1, 1, 1}, 11);
  if (std::any_of(report.histogram.begin(), report.histogram.end(), [](int n) { return n > 0; })) {
    draw_histogram(canvas, report.histogram,
                   panel.beside ? Point2{picture.width() - histogram_width - 20, picture.height() + 14.0}
                                : Point2{14, y + row + 10},
                   histogram_width, histogram_height);
  }
  return canvas.image();
}

}  // namespace heron
