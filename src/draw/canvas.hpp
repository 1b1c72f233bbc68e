#pragma once
#include <cairo.h>

#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "heron/base/point.hpp"
#include "heron/image/image.hpp"

namespace heron::draw {

struct Color {
  double r, g, b, a = 1;
};

inline constexpr Color edge_color{0.25, 0.88, 1.0};   // bright blue
inline constexpr Color unseen_color{1.0, 0.62, 0.1};  // orange
inline constexpr Color axis_color{1.0, 0.9, 0.3};     // yellow
inline constexpr Color miss_color{1.0, 0.75, 0.85};   // pale pink
inline constexpr Color region_color{1.0, 1.0, 1.0};
inline constexpr Color rim_color{0.0, 0.0, 0.0, 0.75};

enum class Stroke { solid, dashed, dotted };

/// A picture to draw on, enlarged by a whole factor; coordinates are those of the picture.
class Canvas {
 public:
  explicit Canvas(const ImageView<const uint8_t>& picture, int zoom = 1);
  explicit Canvas(const ImageView<const Rgb>& picture, int zoom = 1);

  void line(Point2 a, Point2 b, Color color, double width = 1.5, Stroke stroke = Stroke::solid);
  /// Many short lines as one stroke: all rims lie below all colors, so neighbours do not darken each other.
  void lines(const std::vector<std::pair<Point2, Point2>>& segments, Color color, double width);
  /// Through all points, and back to the first when closed.
  void path(const std::vector<Point2>& points, bool closed, Color color, double width, Stroke stroke);
  void cross(Point2 at, double half, Color color, double width = 1.2);
  void ring(Point2 centre, double radius, Color color, double width = 1.5, Stroke stroke = Stroke::solid);
  void box(Point2 corner, double width, double height, Color color, Stroke stroke);
  void arrow(Point2 from, Point2 to, Color color, double width, Stroke stroke);
  /// Words in a dark box whose top left corner lies at `at`, moved so that it stays on the picture.
  void label(Point2 at, const std::string& words, Color color = {1, 1, 1}, double size = 13);
  /// Width and height of the box that `label` would draw, picture pixels.
  Point2 label_size(const std::string& words, double size = 13);
  /// Enlarges the words of labels that follow, for a picture that is looked at shrunk.
  void enlarge_words(double factor) { words_ = factor; }
  /// A filled box without rim.
  void patch(Point2 corner, double width, double height, Color color);
  /// Stripes over every picture pixel where `mask` is set; `falling` distinguishes two kinds without color.
  void stripes(const ImageView<const uint8_t>& mask, Color color, bool falling);
  void hatch(int x, int y);  ///< marks one picture pixel as not counting
  Image<Rgb> image() const;
  int width() const { return cairo_image_surface_get_width(surface_.get()) / zoom_; }  ///< of the picture
  int height() const { return cairo_image_surface_get_height(surface_.get()) / zoom_; }

 private:
  struct Free {
    void operator()(cairo_surface_t* s) const { cairo_surface_destroy(s); }
    void operator()(cairo_t* c) const { cairo_destroy(c); }
  };
  Canvas(int width, int height, int zoom);
  /// Fills the canvas with `color_at(x, y)` of each picture pixel, as 0xRRGGBB.
  template <class ColorAt>
  void fill(ColorAt color_at);
  Point2 place(Point2 p) const { return {(p.x + 0.5) * zoom_, (p.y + 0.5) * zoom_}; }
  void stroke_path(Color color, double width, Stroke stroke);

  int zoom_;
  double words_ = 1;
  std::unique_ptr<cairo_surface_t, Free> surface_;
  std::unique_ptr<cairo_t, Free> cairo_;
};

}  // namespace heron::draw
