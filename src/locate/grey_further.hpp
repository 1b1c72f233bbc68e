#pragma once
#include "grey_model.hpp"
#include "grey_solve.hpp"

namespace heron {

/// What is asked for beside the unknowns where the residuals call for it; memory that is kept.
struct FurtherScratch {
  Image<float> softer_blurred;
  std::array<std::vector<float>, most_further> columns;
};

/// How much more blur than `variance`, square pixels, the residuals of a look at `pose` show beyond doubt; 0
/// where most of what they leave beyond `noise` comes from something else.
double more_blur(const GreyLook& look, const GreyModel& model, const Similarity2& pose, double variance,
                 double noise, FurtherScratch& s);

/// What light that bends over the part does to a step that knows it as linear.
struct BentLight {
  GreyVector shift = GreyVector::Zero();
  Eigen::Matrix4d covariance = Eigen::Matrix4d::Zero();  ///< of the shift's first unknowns
};

/// Whether light falls off so steeply over the part that it may bend as well.
bool falls_steeply(const GreyProblem& problem);

/// Light that falls off steeply over the part bends as well, since the taught picture had a light of its own:
/// the gain changes with x^2, xy and y^2. Where the residuals show it beyond doubt, these are solved for with
/// the unknowns; elsewhere they would answer to what they are not, and take from what holds place and scale.
BentLight bent_light(const GreyLook& look, const GreyMatrix& inverse, FurtherScratch& s);

}  // namespace heron
