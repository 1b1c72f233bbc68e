#include <algorithm>
#include <cmath>

#include "geometry/robust_fit.hpp"
#include "heron/locate/names.hpp"
#include "heron/locate/study.hpp"

namespace heron {
namespace {

FigureTrend& trend_named(std::vector<FigureTrend>& trends, const std::string& name) {
  const auto there =
      std::find_if(trends.begin(), trends.end(), [&](const FigureTrend& t) { return t.name == name; });
  if (there != trends.end()) return *there;
  trends.push_back({.name = name, .values = {}});
  return trends.back();
}

}  // namespace

bool FigureTrend::changes() const {
  const double change = std::abs(last - first);
  return change > 3 * change_sigma && change > 0.05 * std::abs(first);
}

std::vector<FigureTrend> trends_of(const std::vector<StudiedPicture>& pictures) {
  std::vector<FigureTrend> trends;
  const int count = static_cast<int>(pictures.size());
  for (int i = 0; i < count; ++i)
    for (const StudiedFind& find : pictures[static_cast<size_t>(i)].finds) {
      if (!find.right) continue;
      trend_named(trends, limit::score).values.push_back({i, find.score});
      trend_named(trends, limit::contrast).values.push_back({i, find.contrast});
      for (const Measurement& f : find.measurements)
        if (f.name.starts_with(measurement::quality_group) && f.name != measurement::quality_total)
          trend_named(trends, f.name).values.push_back({i, f.value});
    }
  std::erase_if(trends, [](const FigureTrend& t) {
    return t.values.size() < 3 || t.values.front().picture + 1 >= t.values.back().picture;
  });
  for (FigureTrend& t : trends) {
    std::vector<FitRow<2>> rows;  // value = first (1 - way) + last way
    std::vector<double> sizes;
    for (const FigureTrend::Value& v : t.values) {
      const double way = static_cast<double>(v.picture) / (count - 1);
      rows.push_back({{1 - way, way}, v.value});
      sizes.push_back(v.value);
    }
    const double usual = median_size(sizes);
    const auto fit =
        fit_robustly<2>(rows, {usual, usual}, {.least = 1e-6 + 1e-3 * usual, .sigmas_known = false});
    t.first = fit.unknowns[0], t.last = fit.unknowns[1];
    const Eigen::Matrix2d& c = fit.covariance;
    t.change_sigma = std::sqrt(std::max(0.0, c(0, 0) + c(1, 1) - 2 * c(0, 1)));
  }
  return trends;
}

}  // namespace heron
