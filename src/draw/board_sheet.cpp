#include "heron/draw/board_sheet.hpp"

#include <cairo-pdf.h>
#include <cairo-svg.h>
#include <fmt/format.h>

#include <algorithm>
#include <memory>

#include "heron/base/error.hpp"

namespace heron {
namespace {

constexpr double points_per_mm = 72 / 25.4;

cairo_status_t append(void* out, const unsigned char* data, unsigned int count) {
  static_cast<std::string*>(out)->append(reinterpret_cast<const char*>(data), count);
  return CAIRO_STATUS_SUCCESS;
}

struct Sheet {
  double width, height, margin,
      foot;  // millimetres; `foot` is the strip below the board for words and the bar
};

Sheet sheet_of(const BoardShape& s) {
  const double margin = std::max(10.0, PrintedBoard::margin(s.kind) * s.pitch_mm);
  const double foot = 14;
  return {(s.columns - 1) * s.pitch_mm + 2 * margin, (s.rows - 1) * s.pitch_mm + 2 * margin + foot, margin,
          foot};
}

/// Words, and bars to lay a ruler on, as long as fits: a printer may stretch one way only.
void draw_foot(cairo_t* c, const Sheet& sheet, const std::string& words) {
  const double longest = std::min(sheet.width, sheet.height) - 20;
  const double bar = longest >= 100 ? 100 : longest >= 50 ? 50 : 10;
  const double line = sheet.height - 8, side = 4;
  cairo_set_line_width(c, 0.25);
  for (const double x : {10.0, 10 + bar}) cairo_move_to(c, x, line - 2), cairo_line_to(c, x, line + 2);
  cairo_move_to(c, 10, line), cairo_line_to(c, 10 + bar, line);
  for (const double y : {line, line - bar}) cairo_move_to(c, side - 2, y), cairo_line_to(c, side + 2, y);
  cairo_move_to(c, side, line), cairo_line_to(c, side, line - bar);
  cairo_stroke(c);
  cairo_select_font_face(c, "DejaVu Sans", CAIRO_FONT_SLANT_NORMAL, CAIRO_FONT_WEIGHT_NORMAL);
  const std::string line_of_words = fmt::format("{:.0f} mm, both bars   {}", bar, words);
  constexpr double usual = 3, smallest = 1;  // millimetres
  cairo_set_font_size(c, usual);
  cairo_text_extents_t extents;
  cairo_text_extents(c, line_of_words.c_str(), &extents);
  cairo_set_font_size(c, std::clamp(usual * (sheet.width - 14) / extents.x_advance, smallest, usual));
  cairo_move_to(c, 10, sheet.height - 2);
  cairo_show_text(c, line_of_words.c_str());
}

/// Draws in millimetres, y down from the sheet's top.
void draw_sheet(cairo_t* c, const BoardShape& s, const Sheet& sheet) {
  const double p = s.pitch_mm, bottom = sheet.height - sheet.foot - sheet.margin;
  const auto x_of = [&](double i) { return sheet.margin + i * p; };
  const auto y_of = [&](double j) { return bottom - j * p; };  // Y points up on the sheet
  cairo_set_source_rgb(c, 1, 1, 1);
  cairo_paint(c);
  cairo_set_source_rgb(c, 0, 0, 0);
  if (s.kind == BoardKind::dots) {
    for (int j = 0; j < s.rows; ++j)
      for (int i = 0; i < s.columns; ++i) {
        cairo_new_sub_path(c);
        cairo_arc(c, x_of(i), y_of(j), PrintedBoard::dot_radius * p, 0, 2 * std::numbers::pi);
        cairo_fill(c);
      }
  } else {
    for (int j = -1; j < s.rows; ++j)
      for (int i = -1; i < s.columns; ++i)
        if ((i + j) % 2 == 0) cairo_rectangle(c, x_of(i), y_of(j + 1), p, p);
    cairo_fill(c);
  }
  const double half = PrintedBoard::bar_half_width;
  for (const PrintedBoard::Mark& mark : PrintedBoard::marks(s))
    for (int k = 0; k < mark.dashes; ++k) {
      const auto [from, to] = mark.dash(k);
      const double width = std::max(std::abs(to.x - from.x), 2 * half) * p,
                   height = std::max(std::abs(to.y - from.y), 2 * half) * p;
      cairo_rectangle(c, x_of(0.5 * (from.x + to.x)) - width / 2, y_of(0.5 * (from.y + to.y)) - height / 2,
                      width, height);
    }
  cairo_fill(c);

  draw_foot(c, sheet,
            fmt::format("Able Heron board   {} {} x {}   pitch {:g} mm   origin above the bar, X along it",
                        s.kind == BoardKind::dots ? "dots" : "checker", s.columns, s.rows, s.pitch_mm));
}

Sheet sheet_of(const RingShape& ring) {
  const double margin = std::max(8.0, 0.5 * ring.diameter_mm * (RingShape::paper - 1)), foot = 14;
  const double side = std::max(ring.diameter_mm + 2 * margin, 62.0);
  return {side, side + foot, margin, foot};
}

void draw_ring(cairo_t* c, const RingShape& ring, const Sheet& sheet) {
  cairo_set_source_rgb(c, 1, 1, 1);
  cairo_paint(c);
  cairo_set_source_rgb(c, 0, 0, 0);
  cairo_set_fill_rule(c, CAIRO_FILL_RULE_EVEN_ODD);
  const double x = 0.5 * sheet.width, y = 0.5 * (sheet.height - sheet.foot);
  for (const auto& loop : ring.loops()) {
    cairo_new_sub_path(c);
    for (const Point2& p : loop) cairo_line_to(c, x + p.x, y - p.y);  // Y points up on the sheet
    cairo_close_path(c);
  }
  cairo_fill(c);
  // A short line beyond the paper that must stay white shows where X points.
  cairo_set_line_width(c, 0.25);
  const double from = 0.5 * ring.diameter_mm * RingShape::paper;
  cairo_move_to(c, x + from, y), cairo_line_to(c, std::min(sheet.width - 1, x + from + 4), y);
  cairo_stroke(c);
  draw_foot(c, sheet, fmt::format("Able Heron ring {}   {:g} mm", ring.identity, ring.diameter_mm));
}

struct Free {
  void operator()(cairo_surface_t* s) const { cairo_surface_destroy(s); }
  void operator()(cairo_t* c) const { cairo_destroy(c); }
};

template <class Shape, class Draw>
std::string written_sheet(const Shape& shape, const Draw& draw, const std::string& ending,
                          double dots_per_inch) {
  shape.require_valid();
  const Sheet sheet = sheet_of(shape);
  if (sheet.width > 3000 || sheet.height > 3000)
    fail_argument(fmt::format("board: the sheet would be {:.0f} x {:.0f} mm; at most 3000 mm a side",
                              sheet.width, sheet.height));
  if (!(dots_per_inch >= 20 && dots_per_inch <= 4800))
    fail_argument(fmt::format("board: {} dots per inch; from 20 to 4800", dots_per_inch));
  std::string out;
  std::unique_ptr<cairo_surface_t, Free> surface;
  double scale = points_per_mm;
  if (ending == ".pdf")
    surface.reset(
        cairo_pdf_surface_create_for_stream(append, &out, sheet.width * scale, sheet.height * scale));
  else if (ending == ".svg")
    surface.reset(
        cairo_svg_surface_create_for_stream(append, &out, sheet.width * scale, sheet.height * scale));
  else if (ending == ".png") {
    scale = dots_per_inch / 25.4;
    if (sheet.width * sheet.height * scale * scale > 200e6)
      fail_argument("board: more than 200 million pixels; take fewer dots per inch, or .pdf");
    surface.reset(cairo_image_surface_create(CAIRO_FORMAT_RGB24,
                                             static_cast<int>(std::ceil(sheet.width * scale)),
                                             static_cast<int>(std::ceil(sheet.height * scale))));
  } else
    fail_argument(
        fmt::format("board: '{}' is no ending of a sheet; it is written as .pdf, .svg or .png", ending));
  {
    const std::unique_ptr<cairo_t, Free> c(cairo_create(surface.get()));
    cairo_scale(c.get(), scale, scale);
    draw(c.get(), shape, sheet);
  }
  if (ending == ".png")
    cairo_surface_write_to_png_stream(surface.get(), append, &out);
  else
    cairo_surface_finish(surface.get());
  if (cairo_surface_status(surface.get()) != CAIRO_STATUS_SUCCESS && out.empty())
    fail_argument("board: the sheet could not be drawn");
  return out;
}

}  // namespace

bool SheetSize::fits_a4() const {
  constexpr double long_side = 297 - 2 * 5, short_side = 210 - 2 * 5;
  return std::max(width, height) <= long_side && std::min(width, height) <= short_side;
}

SheetSize sheet_size(const BoardShape& shape) {
  shape.require_valid();
  const Sheet sheet = sheet_of(shape);
  return {sheet.width, sheet.height};
}

std::string board_sheet(const BoardShape& shape, const std::string& ending, double dots_per_inch) {
  return written_sheet(shape, draw_sheet, ending, dots_per_inch);
}

std::string ring_sheet(const RingShape& ring, const std::string& ending, double dots_per_inch) {
  return written_sheet(ring, draw_ring, ending, dots_per_inch);
}

}  // namespace heron
