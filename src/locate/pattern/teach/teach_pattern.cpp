#include "heron/locate/pattern.hpp"
#include "locate/common/find_options.hpp"
#include "locate/pattern/model/pattern_model.hpp"

namespace heron {

const KindInfo& PatternTarget::info() {
  static const KindInfo kind{
      .id = "pattern",
      .what = "edges of a part inside a region",
      .options = {"angle", "scale", "min score", "min contrast", "max count", "min visible", "max outside",
                  "inversion", "thoroughness", "region"}};
  return kind;
}

const std::vector<SettingRow<PatternSettings>>& PatternTarget::rows() {
  static const std::vector<SettingRow<PatternSettings>> rows{
      {"edge_threshold", &PatternSettings::edge_threshold,
       "weakest edge that is taught, grey levels over two pixels; 0: chosen from the picture"},
      {"detail", &PatternSettings::detail,
       "0: every edge; 1, 2, 3: only edges that are still visible after halving the picture so often"},
      {"height_step_mm", &PatternSettings::height_step_mm,
       "height step of one level of a relief, millimetres; 0: a grey picture"}};
  return rows;
}

PatternTarget::PatternTarget(TaughtPicture taught, PatternSettings settings)
    : TaughtKind(std::move(taught), std::move(settings)) {
  require_valid(settings_.options, grey_unit());
  model_ = std::make_shared<const PatternModel>(taught_, settings_);
}

PatternTarget::PatternTarget(Image<uint8_t> pixels, Image<uint8_t> mask, Point2 origin,
                             PatternSettings settings)
    : PatternTarget(TaughtPicture{.pixels = std::move(pixels), .mask = std::move(mask), .origin = origin},
                    std::move(settings)) {}

double PatternTarget::edge_threshold() const { return model_->strength() * grey_unit(); }
const std::vector<TaughtEdge>& PatternTarget::edges() const { return model_->levels()[0]; }
const Box& PatternTarget::extent() const { return model_->extent(); }
int PatternTarget::symmetry_order() const { return model_->has_angle() ? model_->symmetry() : 0; }

std::vector<Measurement> PatternTarget::facts() const {
  return {{"edges", static_cast<double>(edges().size())}, {"used_threshold", edge_threshold()}};
}

PatternTarget teach_pattern(const ImageView<const uint8_t>& picture, const Region& region,
                            PatternSettings settings, const ImageView<const uint8_t>& valid) {
  return PatternTarget::taught_from({.grey = picture, .region = region, .valid = valid}, std::move(settings));
}

PatternTarget PatternTarget::taught_from(const TeachingPicture& picture, PatternSettings settings) {
  return {cut_out(picture, settings.origin), std::move(settings)};
}

}  // namespace heron
