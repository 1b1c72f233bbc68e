#pragma once
#include "heron/locate/study.hpp"
#include "heron/plot/plot.hpp"

namespace heron {

/// The scores of a study, picture after picture: parts as rings, everything else as crosses, the minimum
/// score as it is (dashed) and as proposed (solid), and the gap between the worst part and the best of the
/// rest.
PlotSheet scores_plot(const std::vector<StudiedPicture>& pictures, const StudyAdvice& advice,
                      double min_score);

/// The mean score over the field of view, and from the picture's centre to its corner.
PlotSheet field_plot(const FieldMap& field, int width, int height);

/// How each measurement goes over the pictures, a plot each: its values and a robust line through them, solid
/// where it changes and dashed where it does not.
PlotSheet trends_plot(const std::vector<FigureTrend>& trends, size_t pictures);

}  // namespace heron
