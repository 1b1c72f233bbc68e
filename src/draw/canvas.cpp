#include "canvas.hpp"

namespace heron::draw {
namespace {
void set(cairo_t* c, Color color) { cairo_set_source_rgba(c, color.r, color.g, color.b, color.a); }
}  // namespace

Canvas::Canvas(int width, int height, int zoom)
    : zoom_(zoom),
      surface_(cairo_image_surface_create(CAIRO_FORMAT_RGB24, width * zoom, height * zoom)),
      cairo_(cairo_create(surface_.get())) {
  if (cairo_surface_status(surface_.get()) != CAIRO_STATUS_SUCCESS)
    fail_argument("the picture is too large to draw on (32767 pixels a side)");
  cairo_set_line_cap(cairo_.get(), CAIRO_LINE_CAP_ROUND);
  cairo_select_font_face(cairo_.get(), "DejaVu Sans", CAIRO_FONT_SLANT_NORMAL, CAIRO_FONT_WEIGHT_NORMAL);
}

template <class ColorAt>
void Canvas::fill(ColorAt color_at) {
  unsigned char* data = cairo_image_surface_get_data(surface_.get());
  const int stride = cairo_image_surface_get_stride(surface_.get());
  const int width = cairo_image_surface_get_width(surface_.get()),
            height = cairo_image_surface_get_height(surface_.get());
  for (int y = 0; y < height; ++y) {
    auto* row = reinterpret_cast<uint32_t*>(data + static_cast<ptrdiff_t>(y) * stride);
    for (int x = 0; x < width; ++x) row[x] = color_at(x / zoom_, y / zoom_);
  }
  cairo_surface_mark_dirty(surface_.get());
}

Canvas::Canvas(const ImageView<const uint8_t>& picture, int zoom)
    : Canvas(picture.width(), picture.height(), zoom) {
  fill([&](int x, int y) { return picture(x, y) * 0x010101u; });
}

Canvas::Canvas(const ImageView<const Rgb>& picture, int zoom)
    : Canvas(picture.width(), picture.height(), zoom) {
  fill([&](int x, int y) {
    const Rgb p = picture(x, y);
    return static_cast<uint32_t>(p.r) << 16 | static_cast<uint32_t>(p.g) << 8 | p.b;
  });
}

void Canvas::stroke_path(Color color, double width, Stroke stroke) {
  cairo_t* c = cairo_.get();
  const double dash[] = {6, 5}, dot[] = {0.5, 4};
  cairo_set_dash(c, stroke == Stroke::dotted ? dot : dash, stroke == Stroke::solid ? 0 : 2, 0);
  cairo_set_line_width(c, width + 2);
  set(c, rim_color);
  cairo_stroke_preserve(c);
  cairo_set_line_width(c, width);
  set(c, color);
  cairo_stroke(c);
}

void Canvas::line(Point2 a, Point2 b, Color color, double width, Stroke stroke) {
  const Point2 p = place(a), q = place(b);
  cairo_move_to(cairo_.get(), p.x, p.y);
  cairo_line_to(cairo_.get(), q.x, q.y);
  stroke_path(color, width, stroke);
}

void Canvas::lines(const std::vector<std::pair<Point2, Point2>>& segments, Color color, double width) {
  for (const auto& [a, b] : segments) {
    const Point2 p = place(a), q = place(b);
    cairo_move_to(cairo_.get(), p.x, p.y);
    cairo_line_to(cairo_.get(), q.x, q.y);
  }
  stroke_path(color, width, Stroke::solid);
}

void Canvas::patch(Point2 corner, double width, double height, Color color) {
  const Point2 p = place(corner);
  cairo_set_antialias(cairo_.get(), CAIRO_ANTIALIAS_NONE);
  cairo_rectangle(cairo_.get(), p.x, p.y, width * zoom_, height * zoom_);
  set(cairo_.get(), color);
  cairo_fill(cairo_.get());
  cairo_set_antialias(cairo_.get(), CAIRO_ANTIALIAS_DEFAULT);
}

void Canvas::stripes(const ImageView<const uint8_t>& mask, Color color, bool falling) {
  cairo_surface_flush(surface_.get());
  unsigned char* data = cairo_image_surface_get_data(surface_.get());
  const int stride = cairo_image_surface_get_stride(surface_.get());
  const auto level = [](double c) { return static_cast<uint32_t>(std::lround(255 * c)); };
  const uint32_t value = level(color.r) << 16 | level(color.g) << 8 | level(color.b);
  for (int y = 0; y < mask.height() * zoom_; ++y) {
    auto* row = reinterpret_cast<uint32_t*>(data + static_cast<ptrdiff_t>(y) * stride);
    for (int x = 0; x < mask.width() * zoom_; ++x)
      if (mask(x / zoom_, y / zoom_) && (falling ? x - y + (1 << 20) : x + y) % 6 < 3) row[x] = value;
  }
  cairo_surface_mark_dirty(surface_.get());
}

void Canvas::path(const std::vector<Point2>& points, bool closed, Color color, double width, Stroke stroke) {
  if (points.empty()) return;
  cairo_new_sub_path(cairo_.get());
  for (const Point2& each : points) {
    const Point2 p = place(each);
    cairo_line_to(cairo_.get(), p.x, p.y);
  }
  if (closed) cairo_close_path(cairo_.get());
  stroke_path(color, width, stroke);
}

void Canvas::cross(Point2 at, double half, Color color, double width) {
  const Point2 p = place(at);
  cairo_move_to(cairo_.get(), p.x - half, p.y - half);
  cairo_line_to(cairo_.get(), p.x + half, p.y + half);
  cairo_move_to(cairo_.get(), p.x - half, p.y + half);
  cairo_line_to(cairo_.get(), p.x + half, p.y - half);
  stroke_path(color, width, Stroke::solid);
}

void Canvas::ring(Point2 centre, double radius, Color color, double width, Stroke stroke) {
  const Point2 p = place(centre);
  cairo_new_sub_path(cairo_.get());
  cairo_arc(cairo_.get(), p.x, p.y, radius * zoom_, 0, 2 * std::numbers::pi);
  stroke_path(color, width, stroke);
}

void Canvas::box(Point2 corner, double width, double height, Color color, Stroke stroke) {
  // The box is continuous picture coordinates: its corner is a point, not a pixel's centre.
  const Point2 p = place(corner);
  cairo_rectangle(cairo_.get(), p.x, p.y, width * zoom_, height * zoom_);
  stroke_path(color, 1.5, stroke);
}

void Canvas::arrow(Point2 from, Point2 to, Color color, double width, Stroke stroke) {
  line(from, to, color, width, stroke);
  const Point2 along = (to - from) / std::max(1e-9, distance(from, to)), across{-along.y, along.x};
  const double head = 8.0 / zoom_;
  line(to, to - along * head + across * (0.45 * head), color, width);
  line(to, to - along * head - across * (0.45 * head), color, width);
}

constexpr double label_pad = 3;

Point2 Canvas::label_size(const std::string& words, double size) {
  size *= words_;
  cairo_set_font_size(cairo_.get(), size);
  cairo_text_extents_t extents;
  cairo_text_extents(cairo_.get(), words.c_str(), &extents);
  return Point2{extents.x_advance + 2 * label_pad, size * 1.15 + 2 * label_pad} / zoom_;
}

void Canvas::label(Point2 at, const std::string& words, Color color, double size) {
  cairo_t* c = cairo_.get();
  const Point2 box = label_size(words, size) * zoom_;
  size *= words_;
  const double pad = label_pad, w = box.x, h = box.y;
  const double right = cairo_image_surface_get_width(surface_.get()),
               bottom = cairo_image_surface_get_height(surface_.get());
  const Point2 p = place(at);
  const double x = std::max(0.0, std::min(p.x, right - w)), y = std::max(0.0, std::min(p.y, bottom - h));
  cairo_set_source_rgba(c, 0.05, 0.07, 0.1, 0.8);
  cairo_rectangle(c, x, y, w, h);
  cairo_fill(c);
  set(c, color);
  cairo_move_to(c, x + pad, y + pad + size * 0.92);
  cairo_show_text(c, words.c_str());
}

void Canvas::hatch(int x, int y) {
  cairo_t* c = cairo_.get();
  cairo_set_source_rgba(c, 0.5, 0.5, 0.55, 1);
  cairo_rectangle(c, x * zoom_, y * zoom_, zoom_, zoom_);
  cairo_fill(c);
  if ((x + y) % 4 != 0) return;
  set(c, {0.2, 0.2, 0.25});
  cairo_rectangle(c, x * zoom_, y * zoom_, zoom_, zoom_);
  cairo_fill(c);
}

Image<Rgb> Canvas::image() const {
  cairo_surface_flush(surface_.get());
  const int w = cairo_image_surface_get_width(surface_.get()),
            h = cairo_image_surface_get_height(surface_.get());
  const unsigned char* data = cairo_image_surface_get_data(surface_.get());
  const int stride = cairo_image_surface_get_stride(surface_.get());
  Image<Rgb> result(w, h);
  for (int y = 0; y < h; ++y) {
    const auto* row = reinterpret_cast<const uint32_t*>(data + static_cast<ptrdiff_t>(y) * stride);
    for (int x = 0; x < w; ++x)
      result(x, y) = {static_cast<uint8_t>(row[x] >> 16), static_cast<uint8_t>(row[x] >> 8),
                      static_cast<uint8_t>(row[x])};
  }
  return result;
}

}  // namespace heron::draw
