#include "heron/draw/sheet.hpp"

#include "canvas.hpp"

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
