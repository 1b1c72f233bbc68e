#include "heron/draw/study_picture.hpp"

#include <fmt/format.h>

#include "canvas.hpp"

namespace heron {
namespace {

using namespace draw;

/// Halved, thirded, ... by the mean of whole blocks until it is at most so wide.
Image<Rgb> shrunk(const Image<Rgb>& picture, int most_width) {
  const int by = std::max(1, (picture.width() + most_width - 1) / most_width);
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
                       double least_score) {
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
  canvas.line({left, y_of(least_score)}, {right, y_of(least_score)}, axis_color, 1.5, Stroke::dashed);
  canvas.line({left, y_of(advice.limits.least_score)}, {right, y_of(advice.limits.least_score)}, axis_color,
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
  canvas.label(
      {left, 12},
      fmt::format("score by picture: rings parts, crosses everything else; least score now {:g} (dashed), "
                  "proposed {:g} (solid)",
                  least_score, advice.limits.least_score),
      {1, 1, 1}, 14);
  if (advice.worst_right)
    canvas.label({right - 330, y_of(*advice.worst_right) - (advice.separated ? -4 : 26)},
                 advice.separated ? fmt::format("gap: {:.1f} to {}", *advice.worst_right,
                                                advice.best_wrong ? fmt::format("{:.1f}", *advice.best_wrong)
                                                                  : "nothing else")
                                  : "no gap: something else scores higher than the worst part",
                 {1, 1, 1}, 13);
  return canvas.image();
}

Image<Rgb> draw_sheet(const std::vector<SheetEntry>& entries) {
  constexpr int columns = 2, cell_width = 640, header = 26;
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
                 entries[i].words, {1, 1, 1}, 12);
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
