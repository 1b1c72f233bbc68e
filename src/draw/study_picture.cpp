#include "heron/draw/study_picture.hpp"

#include <fmt/format.h>

#include "canvas.hpp"
#include "heat.hpp"

namespace heron {
namespace {

using namespace draw;

/// Halved, thirded, ... by the mean of whole blocks until it is at most so wide.
Image<Rgb> shrunk(const Image<Rgb>& picture, int max_width) {
  const int by = std::max(1, (picture.width() + max_width - 1) / max_width);
  Image<Rgb> small(picture.width() / by, picture.height() / by);
  for (int y = 0; y < small.height(); ++y)
    for (int x = 0; x < small.width(); ++x) {
      int r = 0, g = 0, b = 0;
      for (int v = 0; v < by; ++v)
        for (int u = 0; u < by; ++u) {
          const Rgb p = picture(x * by + u, y * by + v);
          r += p.r, g += p.g, b += p.b;
        }
      const int n = by * by;
      small(x, y) = {static_cast<uint8_t>(r / n), static_cast<uint8_t>(g / n), static_cast<uint8_t>(b / n)};
    }
  return small;
}

Image<uint8_t> even_ground(int width, int height, uint8_t grey) {
  Image<uint8_t> ground(width, height);
  for (int y = 0; y < height; ++y) std::fill_n(ground.row(y), width, grey);
  return ground;
}

}  // namespace

Image<Rgb> draw_scores(const std::vector<StudiedPicture>& pictures, const StudyAdvice& advice,
                       double min_score) {
  constexpr int width = 1280, height = 800;
  constexpr double left = 70, right = 1250, top = 60, bottom = 740;
  Canvas canvas(even_ground(width, height, 38));
  const auto y_of = [&](double score) { return bottom - (bottom - top) * score / 100; };
  const auto x_of = [&](size_t i) {
    return left + (right - left) * (static_cast<double>(i) + 0.5) / static_cast<double>(pictures.size());
  };
  if (advice.worst_right && advice.separated) {
    const double low = advice.best_wrong.value_or(25);  // what is below was not looked at
    canvas.patch({left, y_of(*advice.worst_right)}, right - left, y_of(low) - y_of(*advice.worst_right),
                 {0.2, 0.45, 0.5, 0.55});
  }
  for (int score = 0; score <= 100; score += 20) {
    canvas.line({left, y_of(score)}, {right, y_of(score)}, {0.45, 0.45, 0.45}, 0.6);
    canvas.label({left - 46, y_of(score) - 10}, fmt::format("{:>3}", score), {1, 1, 1}, 12);
  }
  canvas.line({left, y_of(min_score)}, {right, y_of(min_score)}, axis_color, 1.5, Stroke::dashed);
  canvas.line({left, y_of(advice.options.min_score)}, {right, y_of(advice.options.min_score)}, axis_color,
              1.8);
  for (size_t i = 0; i < pictures.size(); ++i)
    for (const StudiedFind& s : pictures[i].finds) {
      const Point2 at{x_of(i), y_of(s.score)};
      if (s.right)
        canvas.ring(at, 5, edge_color, 1.8);
      else
        canvas.cross(at, 4, unseen_color, 1.6);
    }
  const size_t step = std::max<size_t>(1, pictures.size() / 15);
  for (size_t i = 0; i < pictures.size(); i += step)
    canvas.label({x_of(i) - 8, bottom + 8}, fmt::format("{}", i + 1), {1, 1, 1}, 11);
  canvas.label({left - 60, top - 30}, "score", {1, 1, 1}, 12);
  canvas.label({0.5 * (left + right) - 120, bottom + 32}, "number of the picture, in the recording's order",
               {1, 1, 1}, 12);
  canvas.label(
      {left + 40, 12},
      fmt::format("score by picture: rings parts, crosses everything else; min score now {:g} (dashed), "
                  "proposed {:g} (solid)",
                  min_score, advice.options.min_score),
      {1, 1, 1}, 14);
  if (advice.worst_right)
    canvas.label({right - 330, y_of(*advice.worst_right) - (advice.separated ? -4 : 26)},
                 advice.separated
                     ? (advice.best_wrong
                            ? fmt::format("gap: {:.1f} to {:.1f}", *advice.best_wrong, *advice.worst_right)
                            : fmt::format("nothing else below {:.1f}", *advice.worst_right))
                     : "no gap: something else scores higher than the worst part",
                 {1, 1, 1}, 13);
  return canvas.image();
}

Image<Rgb> draw_field(const FieldMap& field, int width, int height) {
  constexpr int sheet_width = 1280, sheet_height = 800;
  constexpr double top = 50, max_width = 1220, max_height = 690;
  const double scale = std::min(max_width / width, max_height / height),
               cell_width = width * scale / field.columns, cell_height = height * scale / field.rows,
               left = 0.5 * (sheet_width - width * scale);
  Canvas canvas(even_ground(sheet_width, sheet_height, 38));
  for (int row = 0; row < field.rows; ++row)
    for (int column = 0; column < field.columns; ++column) {
      const FieldMap::Place& place = field.places[static_cast<size_t>(row * field.columns + column)];
      const Point2 corner{left + column * cell_width, top + row * cell_height},
          middle = corner + Point2{cell_width / 2, cell_height / 2};
      canvas.box(corner, cell_width, cell_height, {0.45, 0.45, 0.45}, Stroke::solid);
      if (place.count == 0) {
        canvas.line(corner, corner + Point2{cell_width, cell_height}, {0.45, 0.45, 0.45}, 0.8,
                    Stroke::dotted);
        continue;
      }
      // From 50 up, where finds begin, over the whole scale of colors.
      canvas.patch(corner + Point2{1, 1}, cell_width - 2, cell_height - 2, heat((place.mean - 50) / 50));
      canvas.label(middle + Point2{-20, -12}, fmt::format("{:.1f}", place.mean), {1, 1, 1}, 13);
      canvas.label(corner + Point2{2, cell_height - 20}, fmt::format("{}", place.count), {1, 1, 1}, 10);
    }
  canvas.label({left, 14},
               fmt::format("mean score over the field of view, dark at 50, bright at 100 ({} of {} places "
                           "visited; below each how "
                           "many were found)",
                           field.visited(), field.places.size()),
               {1, 1, 1}, 14);
  std::string words = "from the centre to the corner: ";
  for (const FieldMap::Place& band : field.bands)
    words += band.count ? fmt::format("  {:.1f} ({})", band.mean, band.count) : "  -";
  canvas.label({left, top + max_height + 14}, words, {1, 1, 1}, 14);
  return canvas.image();
}

Image<Rgb> draw_trends(const std::vector<FigureTrend>& trends, size_t pictures) {
  constexpr int width = 1280, height = 800, columns = 2;
  const int rows = std::max(1, (static_cast<int>(trends.size()) + columns - 1) / columns);
  constexpr double header = 44;
  const double cell_width = width / columns, cell_height = (height - header) / rows;
  Canvas canvas(even_ground(width, height, 38));
  canvas.label(
      {20, 10},
      trends.empty()
          ? std::string("no trend: it needs parts in three pictures or more")
          : fmt::format("what changes over {} pictures: line solid where it changes, dashed where not",
                        pictures),
      {1, 1, 1}, 14);
  for (size_t i = 0; i < trends.size(); ++i) {
    const FigureTrend& t = trends[i];
    const double left = (i % columns) * cell_width + 78, right = left + cell_width - 100,
                 top = header + static_cast<double>(i / columns) * cell_height + 30,
                 bottom = top + cell_height - 50;
    double low = std::min(t.first, t.last), high = std::max(t.first, t.last);
    for (const FigureTrend::Value& v : t.values) low = std::min(low, v.value), high = std::max(high, v.value);
    if (low > 0 && low < 0.8 * high) low = 0;  // from zero, unless that would hide what there is
    if (high <= low) high = low + 1;
    high += 0.05 * (high - low);
    // So many digits that neighbouring ticks differ.
    const double largest = std::max(std::abs(low), std::abs(high));
    const int digits = std::clamp(static_cast<int>(std::ceil(std::log10(largest / (high - low)))) + 3, 3, 8);
    const auto place = [&](double picture, double value) {
      const double way = pictures > 1 ? picture / static_cast<double>(pictures - 1) : 0.5;
      return Point2{left + (right - left) * way, bottom - (bottom - top) * (value - low) / (high - low)};
    };
    canvas.box({left, top}, right - left, bottom - top, {0.45, 0.45, 0.45}, Stroke::solid);
    for (const double value : {low, 0.5 * (low + high), high})
      canvas.label({left - 70, place(0, value).y - 9}, fmt::format("{:>8.{}g}", value, digits), {1, 1, 1},
                   11);
    for (const FigureTrend::Value& v : t.values) canvas.cross(place(v.picture, v.value), 3, edge_color, 1.4);
    canvas.line(place(0, t.first), place(static_cast<double>(pictures) - 1, t.last), axis_color,
                t.changes() ? 2.2 : 1.4, t.changes() ? Stroke::solid : Stroke::dashed);
    canvas.label({left, top - 26},
                 fmt::format("{}: {:.4g} to {:.4g}, change {:+.3g} \u00b1 {:.2g}", t.name, t.first, t.last,
                             t.last - t.first, t.change_sigma),
                 t.changes() ? axis_color : Color{1, 1, 1}, 13);
  }
  return canvas.image();
}

Image<Rgb> draw_sheet(const std::vector<SheetEntry>& entries) {
  constexpr int columns = 2, cell_width = sheet_cell_width, header = 32;
  std::vector<Image<Rgb>> cells;
  int cell_height = 1;
  for (const SheetEntry& e : entries) {
    cells.push_back(shrunk(e.picture, cell_width));
    cell_height = std::max(cell_height, cells.back().height() + header);
  }
  const int rows = std::max(1, (static_cast<int>(entries.size()) + columns - 1) / columns);
  Canvas canvas(even_ground(columns * cell_width, rows * cell_height, 30));
  for (size_t i = 0; i < entries.size(); ++i)
    canvas.label({static_cast<double>(static_cast<int>(i) % columns * cell_width + 2),
                  static_cast<double>(static_cast<int>(i) / columns * cell_height + 2)},
                 entries[i].words, {1, 1, 1}, 16);
  Image<Rgb> sheet = canvas.image();
  for (size_t i = 0; i < cells.size(); ++i) {
    const int x0 = static_cast<int>(i) % columns * cell_width,
              y0 = static_cast<int>(i) / columns * cell_height + header;
    for (int y = 0; y < cells[i].height(); ++y)
      std::copy_n(cells[i].row(y), cells[i].width(), sheet.row(y0 + y) + x0);
  }
  return sheet;
}

}  // namespace heron
