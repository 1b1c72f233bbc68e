#include "locate/grey_sums.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "locate/grey_sums.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace heron {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using Floats = hn::ScalableTag<float>;
using V = hn::Vec<Floats>;

/// The columns of a vector of samples.
struct Columns {
  V gain, along_x, along_y, offset, per_size;
  const GreySamples& samples;

  explicit Columns(const GreyProblem& p) : samples(p.samples) {
    const Floats f;
    gain = hn::Set(f, static_cast<float>(p.light.gain));
    along_x = hn::Set(f, static_cast<float>(p.light.along_x));
    along_y = hn::Set(f, static_cast<float>(p.light.along_y));
    offset = hn::Set(f, static_cast<float>(p.light.offset));
    per_size = hn::Set(f, static_cast<float>(1 / p.size));
  }

  /// Behind the last sample the columns are zero.
  HWY_INLINE void operator()(size_t i, V* out) const {
    const Floats f;
    const auto x = hn::LoadU(f, samples.x.data() + i), y = hn::LoadU(f, samples.y.data() + i),
               value = hn::LoadU(f, samples.value.data() + i);
    const auto in = hn::FirstN(f, samples.count - i);
    const auto here = hn::MulAdd(along_x, x, hn::MulAdd(along_y, y, gain));
    const auto dx = hn::Mul(here, hn::LoadU(f, samples.dx.data() + i)),
               dy = hn::Mul(here, hn::LoadU(f, samples.dy.data() + i));
    out[0] = hn::Neg(dx), out[1] = hn::Neg(dy);
    out[2] = hn::Sub(hn::Mul(dx, y), hn::Mul(dy, x));
    out[3] = hn::Neg(hn::MulAdd(dx, x, hn::Mul(dy, y)));
    out[4] = value;
    out[5] = hn::Mul(value, hn::Mul(x, per_size)), out[6] = hn::Mul(value, hn::Mul(y, per_size));
    out[7] = hn::IfThenElseZero(in, hn::Set(f, 1));
    const auto grey = hn::LoadU(f, samples.grey.data() + i);
    out[8] = hn::IfThenElseZero(in, hn::Sub(hn::NegMulAdd(here, value, grey), offset));
  }
};

/// Of the columns from `from` on.
template <size_t from>
void products_of(const GreyProblem& problem, const float* roots, double* sums) {
  const Floats f;
  const Columns columns(problem);
  const size_t count = problem.samples.count, lanes = hn::Lanes(f), block = 64 * lanes;
  for (size_t start = 0; start < count; start += block) {  // few enough for sums of floats
    const size_t end = std::min(count, start + block);
    constexpr size_t wide = grey_columns - from, count_of = wide * (wide + 1) / 2;
    V sum[count_of], c[grey_columns];
    for (V& s : sum) s = hn::Zero(f);
    for (size_t i = start; i < end; i += lanes) {
      columns(i, c);
      if (roots) {
        const auto root = hn::LoadU(f, roots + i);
        for (size_t a = from; a < grey_columns; ++a) c[a] = hn::Mul(c[a], root);
      }
      for (size_t a = from, k = 0; a < grey_columns; ++a)
        for (size_t b = a; b < grey_columns; ++b, ++k) sum[k] = hn::MulAdd(c[a], c[b], sum[k]);
    }
    for (size_t k = 0, at = std::tuple_size_v<GreyProducts> - count_of; k < count_of; ++k)
      sums[at + k] += static_cast<double>(hn::GetLane(hn::SumOfLanes(f, sum[k])));
  }
}

void products_kernel(const GreyProblem& problem, const float* roots, bool light_alone, double* sums) {
  light_alone ? products_of<first_light_unknown>(problem, roots, sums) : products_of<0>(problem, roots, sums);
}

void residuals_kernel(const GreyProblem& problem, const double* step, float* residuals) {
  const Floats f;
  const Columns columns(problem);
  for (size_t i = 0; i < problem.samples.count; i += hn::Lanes(f)) {
    V c[grey_columns];
    columns(i, c);
    auto left = c[grey_unknowns];
    for (size_t k = 0; k < grey_unknowns; ++k)
      left = hn::NegMulAdd(hn::Set(f, static_cast<float>(step[k])), c[k], left);
    hn::StoreU(left, f, residuals + i);
  }
}

GreyWeights weigh_kernel(const GreySamples& s, const float* residuals, double end, float* roots) {
  const Floats f;
  auto sum = hn::Zero(f), answers = hn::Zero(f), sum_x = hn::Zero(f), sum_y = hn::Zero(f),
       squares = hn::Zero(f);
  const auto one = hn::Set(f, 1), per = hn::Set(f, static_cast<float>(1 / end));
  for (size_t i = 0; i < s.count; i += hn::Lanes(f)) {
    const auto u = hn::Mul(hn::LoadU(f, residuals + i), per), square = hn::Mul(u, u);
    const auto inside = hn::And(hn::Lt(square, one), hn::FirstN(f, s.count - i));
    const auto root = hn::IfThenElseZero(inside, hn::Sub(one, square)), weight = hn::Mul(root, root);
    const auto x = hn::LoadU(f, s.x.data() + i), y = hn::LoadU(f, s.y.data() + i);
    sum = hn::Add(sum, weight);
    answers = hn::MulAdd(root, hn::NegMulAdd(hn::Set(f, 4), square, root), answers);
    sum_x = hn::MulAdd(weight, x, sum_x), sum_y = hn::MulAdd(weight, y, sum_y);
    squares = hn::MulAdd(weight, hn::MulAdd(x, x, hn::Mul(y, y)), squares);
    hn::StoreU(root, f, roots + i);
  }
  const auto total = [&](V v) HWY_ATTR { return static_cast<double>(hn::GetLane(hn::SumOfLanes(f, v))); };
  return {total(sum), total(answers), total(sum_x), total(sum_y), total(squares)};
}

void pulls_kernel(const GreyProblem& problem, const float* residuals, const float* roots,
                  const double* by_unknown, float* pulls) {
  const Floats f;
  const Columns columns(problem);
  for (size_t i = 0; i < problem.samples.count; i += hn::Lanes(f)) {
    V c[grey_columns], pull[4];
    columns(i, c);
    const auto root = hn::LoadU(f, roots + i),
               weighed = hn::Mul(hn::Mul(root, root), hn::LoadU(f, residuals + i));
    for (size_t r = 0; r < 4; ++r) {
      pull[r] = hn::Zero(f);
      for (size_t k = 0; k < grey_unknowns; ++k)
        pull[r] =
            hn::MulAdd(hn::Set(f, static_cast<float>(by_unknown[r * grey_unknowns + k])), c[k], pull[r]);
      pull[r] = hn::Mul(pull[r], weighed);
    }
    hn::StoreInterleaved4(pull[0], pull[1], pull[2], pull[3], f, pulls + 4 * i);
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace heron
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace heron {
HWY_EXPORT(products_kernel);
HWY_EXPORT(residuals_kernel);
HWY_EXPORT(weigh_kernel);
HWY_EXPORT(pulls_kernel);

GreyProducts grey_products(const GreyProblem& problem, const std::vector<float>& roots) {
  GreyProducts sums{};
  HWY_DYNAMIC_DISPATCH(products_kernel)
  (problem, roots.empty() ? nullptr : roots.data(), false, sums.data());
  return sums;
}

GreyProducts light_products(const GreyProblem& problem) {
  GreyProducts sums{};
  HWY_DYNAMIC_DISPATCH(products_kernel)(problem, nullptr, true, sums.data());
  return sums;
}

void find_pulls(const GreyProblem& problem, const std::vector<float>& residuals,
                const std::vector<float>& roots, const GreyInfluence& influence, std::vector<float>& pulls) {
  pulls.resize(4 * problem.samples.x.size());
  HWY_DYNAMIC_DISPATCH(pulls_kernel)
  (problem, residuals.data(), roots.data(), influence.data(), pulls.data());
}

void find_residuals(const GreyProblem& problem, const std::array<double, grey_unknowns>& step,
                    std::vector<float>& residuals) {
  residuals.resize(problem.samples.x.size());
  HWY_DYNAMIC_DISPATCH(residuals_kernel)(problem, step.data(), residuals.data());
}

GreyWeights weigh(const GreySamples& samples, const std::vector<float>& residuals, double end,
                  std::vector<float>& roots) {
  roots.resize(samples.x.size());
  return HWY_DYNAMIC_DISPATCH(weigh_kernel)(samples, residuals.data(), end, roots.data());
}

static float gain_at(const GreyProblem& p, size_t i) {
  return static_cast<float>(p.light.gain) + static_cast<float>(p.light.along_x) * p.samples.x[i] +
         static_cast<float>(p.light.along_y) * p.samples.y[i];
}

static std::array<float, grey_unknowns> grey_row(const GreyProblem& p, size_t i) {
  const GreySamples& s = p.samples;
  const float x = s.x[i], y = s.y[i], value = s.value[i], here = gain_at(p, i), dx = here * s.dx[i],
              dy = here * s.dy[i], share = value * static_cast<float>(1 / p.size);
  return {-dx, -dy, dx * y - dy * x, -(dx * x + dy * y), value, share * x, share * y, 1};
}

static double left_of(const GreyProblem& p, size_t i) {
  return static_cast<double>(p.samples.grey[i] - gain_at(p, i) * p.samples.value[i]) - p.light.offset;
}

GreyProducts grey_products_plain(const GreyProblem& problem, const std::vector<float>& roots) {
  GreyProducts sums{};
  for (size_t i = 0; i < problem.samples.count; ++i) {
    const auto row = grey_row(problem, i);
    std::array<double, grey_columns> c{};
    for (size_t k = 0; k < grey_unknowns; ++k) c[k] = static_cast<double>(row[k]);
    c[grey_unknowns] = left_of(problem, i);
    const double weight = roots.empty() ? 1 : static_cast<double>(roots[i] * roots[i]);
    for (size_t a = 0, k = 0; a < grey_columns; ++a)
      for (size_t b = a; b < grey_columns; ++b, ++k) sums[k] += weight * c[a] * c[b];
  }
  return sums;
}

void find_residuals_plain(const GreyProblem& problem, const std::array<double, grey_unknowns>& step,
                          std::vector<float>& residuals) {
  residuals.resize(problem.samples.x.size());
  for (size_t i = 0; i < problem.samples.count; ++i) {
    double left = left_of(problem, i);
    const auto row = grey_row(problem, i);
    for (size_t k = 0; k < grey_unknowns; ++k) left -= step[k] * static_cast<double>(row[k]);
    residuals[i] = static_cast<float>(left);
  }
}

void find_pulls_plain(const GreyProblem& problem, const std::vector<float>& residuals,
                      const std::vector<float>& roots, const GreyInfluence& influence,
                      std::vector<float>& pulls) {
  pulls.resize(4 * problem.samples.x.size());
  for (size_t i = 0; i < problem.samples.count; ++i) {
    const auto row = grey_row(problem, i);
    for (size_t r = 0; r < 4; ++r) {
      double sum = 0;
      for (size_t k = 0; k < grey_unknowns; ++k)
        sum += influence[r * grey_unknowns + k] * static_cast<double>(row[k]);
      pulls[4 * i + r] = static_cast<float>(sum) * roots[i] * roots[i] * residuals[i];
    }
  }
}

GreyWeights weigh_plain(const GreySamples& s, const std::vector<float>& residuals, double end,
                        std::vector<float>& roots) {
  roots.resize(s.x.size());
  GreyWeights w;
  for (size_t i = 0; i < s.count; ++i) {
    const double u = static_cast<double>(residuals[i]) / end, root = std::max(0.0, 1 - u * u), x = s.x[i],
                 y = s.y[i];
    roots[i] = static_cast<float>(root);
    w.sum += root * root, w.answers += root > 0 ? root * (root - 4 * u * u) : 0;
    w.x += root * root * x, w.y += root * root * y, w.squares += root * root * (x * x + y * y);
  }
  return w;
}

}  // namespace heron
#endif
