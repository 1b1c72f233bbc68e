#include "heron/locate/pattern.hpp"
#include "locate/common/limits.hpp"
#include "locate/pattern/model/pattern_model.hpp"

namespace heron {

const KindInfo& PatternTarget::info() {
  static const KindInfo kind{
      .word = "pattern",
      .what = "edges of a part inside a region",
      .limits = {"angle", "scale", "least score", "least contrast", "count", "min visible", "most outside",
                 "inversion", "thoroughness", "region"}};
  return kind;
}

const std::vector<SettingRow<PatternSettings>>& PatternTarget::rows() {
  static const std::vector<SettingRow<PatternSettings>> rows{
      {"least_strength", &PatternSettings::least_strength,
       "grey levels over two pixels from which on an edge is taught; 0 chooses"},
      {"detail", &PatternSettings::detail,
       "0 teaches every edge; 1, 2, 3 only those that a picture halved so often still shows"},
      {"height_step_mm", &PatternSettings::height_step_mm,
       "millimetres a level of a relief; 0: grey levels"}};
  return rows;
}

PatternTarget::PatternTarget(TaughtPicture taught, PatternSettings settings)
    : TaughtKind(std::move(taught), std::move(settings)) {
  require_valid(settings_.limits, grey_unit());
  model_ = std::make_shared<const PatternModel>(taught_, settings_);
}

PatternTarget::PatternTarget(Image<uint8_t> pixels, Image<uint8_t> mask, Point2 origin,
                             PatternSettings settings)
    : PatternTarget(TaughtPicture{.pixels = std::move(pixels), .mask = std::move(mask), .origin = origin},
                    std::move(settings)) {}

double PatternTarget::strength() const { return model_->strength() * grey_unit(); }
const std::vector<TaughtEdge>& PatternTarget::edges() const { return model_->levels()[0]; }
const Box& PatternTarget::extent() const { return model_->extent(); }
int PatternTarget::turns() const { return model_->has_angle() ? model_->symmetry() : 0; }

std::vector<Figure> PatternTarget::facts() const {
  return {{"edges", static_cast<double>(edges().size())}, {"strength", strength()}};
}

PatternTarget teach_pattern(const ImageView<const uint8_t>& picture, const Region& region,
                            PatternSettings settings, const ImageView<const uint8_t>& valid) {
  return PatternTarget::taught_from({.grey = picture, .region = region, .valid = valid}, std::move(settings));
}

PatternTarget PatternTarget::taught_from(const TeachingPicture& picture, PatternSettings settings) {
  return {cut_out(picture, settings.origin), std::move(settings)};
}

}  // namespace heron
