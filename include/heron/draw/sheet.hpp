#pragma once
#include <string>
#include <vector>

#include "heron/image/image.hpp"

namespace heron {

/// Several drawn pictures on one sheet, two in a row, each shrunk to this width and with its caption.
inline constexpr int sheet_cell_width = 640;
struct SheetEntry {
  Image<Rgb> picture;
  std::string words;
};
Image<Rgb> draw_sheet(const std::vector<SheetEntry>& entries);

}  // namespace heron
