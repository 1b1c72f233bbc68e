#pragma once
#include "grey_model.hpp"
#include "grey_solve.hpp"

namespace heron {

/// What is asked for beside the unknowns where the residuals call for it; memory that is kept.
struct FurtherScratch {
  Image<float> softer_blurred;
  std::array<std::vector<float>, max_further> columns;
};

/// How much more blur than `variance`, square pixels, the residuals of a look at `pose` show beyond doubt; 0
/// where most of what they leave beyond `noise` comes from something else.
double more_blur(const FitState& look, const GreyModel& model, const Similarity2& pose, double variance,
                 double noise, FurtherScratch& s);

/// What light that bends over the part does to a step that knows it as linear.
struct BentLight {
  GreyVector shift = GreyVector::Zero();
  Eigen::Matrix4d covariance = Eigen::Matrix4d::Zero();  ///< of the shift's first unknowns
  Eigen::Vector3d bends = Eigen::Vector3d::Zero();       ///< of the columns in the scratch
};

/// Light that falls off steeply over the part bends as well, since the taught picture had a light of its own:
/// the gain changes with x^2, xy and y^2. These are solved for with the unknowns, as far as residuals show
/// them beside how large they are likely to be: the bend of a slope that both pictures share, either way.
BentLight bent_light(const FitState& look, const GreyMatrix& inverse, FurtherScratch& s);
/// Takes from the grey values what the bends, just found, make of them.
void straighten(GreySamples& samples, const BentLight& bent, const FurtherScratch& s);

}  // namespace heron
