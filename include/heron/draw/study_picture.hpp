#pragma once
#include <string>
#include <vector>

#include "heron/image/image.hpp"
#include "heron/locate/study.hpp"

namespace heron {

/// The scores of a study, picture after picture: parts as rings, everything else as crosses, the minimum
/// score as it is (dashed) and as proposed (solid), and the gap between the worst part and the best of the
/// rest.
Image<Rgb> draw_scores(const std::vector<StudiedPicture>& pictures, const StudyAdvice& advice,
                       double min_score);

/// The field of view in places, each with the mean score of what was found there as a number and the size of
/// a disc; places that were never visited are crossed out.
Image<Rgb> draw_field(const FieldMap& field, int width, int height);

/// How each figure goes over the pictures, a plot each: values as crosses, their line solid where the figure
/// changes and dashed where it does not, in words below.
Image<Rgb> draw_trends(const std::vector<FigureTrend>& trends, size_t pictures);

/// Several drawn pictures side by side on one sheet, two in a row, each shrunk to this width, with its words.
inline constexpr int sheet_cell_width = 640;
struct SheetEntry {
  Image<Rgb> picture;
  std::string words;
};
Image<Rgb> draw_sheet(const std::vector<SheetEntry>& entries);

}  // namespace heron
