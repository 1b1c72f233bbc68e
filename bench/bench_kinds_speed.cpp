// The simpler kinds in a 1280 x 1024 picture beside the yardstick, all on one thread, from the prepared
// prepared picture to the detections. Prints the ratios at the end.
#include <benchmark/benchmark.h>

#include <algorithm>

#include "fft_correlation.hpp"
#include "heron/image/components.hpp"
#include "heron/image/smooth.hpp"
#include "heron/locate/target.hpp"
#include "heron/render/studio_views.hpp"
#include "ratios.hpp"

using namespace heron;

namespace {

/// A view, its picture and a target taught from another view of that sort.
struct Case {
  Picture picture;
  Point2 part;
  std::optional<Target> target;
  std::optional<PreparedPicture> prepared;
};

template <class Make>
Case case_of(const std::string& kind, Make make, double width, double height) {
  render::Random random(2001);
  const render::StudioView teach_view = make(random, render::StudioFilling{.parts = 1, .turned = 0});
  const Picture taught = render::picture_of(teach_view, random);
  const Image<uint8_t> grey = grey_levels(taught);
  TeachingPicture from{.grey = grey,
                       .region = Region::rectangle(teach_view.parts[0].pixel, std::max(width, 1.0),
                                                   std::max(height, 1.0), {})};
  if (const auto* color = std::get_if<Image<Rgb>>(&taught.pixels)) from.color = *color;
  Case c;
  TeachOptions words{.name = kind};
  if (kind == "edge") {  // the plate's left edge, in a band inside 200 x 200 pixels
    from.region = Region::rectangle({420, 512}, 180, 120, {});
    words.settings["band"] = std::vector<double>{420, 512, 180, 120, 0};
  }
  if (kind == "border") {
    std::vector<double> corners;
    for (const Point2& p : teach_view.parts[0].corners) corners.push_back(p.x), corners.push_back(p.y);
    from.region = Region::rectangle(teach_view.parts[0].pixel, 520, 400, {});
    words.settings["polyline"] = corners;
  }
  c.target = teach_target(kind, from, words);
  const render::StudioView view = make(random, render::StudioFilling{.parts = 3});
  c.part = view.parts[0].pixel;
  c.picture = render::picture_of(view, random);
  c.prepared.emplace(prepare(c.picture, *c.target));
  return c;
}

const Case& glaze() {
  static const Case c = case_of("color", render::glazed_tiles, 40, 40);
  return c;
}
const Case& blank() {
  static const Case c = case_of("outline", render::leaf_blanks, 220, 160);
  return c;
}
const Case& bore() {
  static const Case c = case_of(
      "marker",
      [](render::Random& random, const render::StudioFilling& f) { return render::door_frame(random, f); },
      96, 96);
  return c;
}

const Case& plate() {
  static const Case c = case_of("edge", render::gauge_plate, 0, 0);
  return c;
}
const Case& panel() {
  static const Case c = case_of("border", render::floor_panel, 0, 0);
  return c;
}

void fft_correlation_one_angle(benchmark::State& state) {
  bench::FftCorrelation correlation(bore().prepared->level(0), blank().target->taught().pixels);
  for (auto _ : state) benchmark::DoNotOptimize(correlation.run());
}

void find_it(benchmark::State& state, const Case& c, const FindOptions& options) {
  size_t found = 0;
  for (auto _ : state) found = find(*c.target, *c.prepared, options, Explain::never).detections.size();
  state.counters["found"] = static_cast<double>(found);
}

void color_regions(benchmark::State& state) { find_it(state, glaze(), glaze().target->options()); }
void color_mask_alone(benchmark::State& state) {
  const auto range = glaze().target->as<ColorTarget>()->range();
  for (auto _ : state) benchmark::DoNotOptimize(color_mask(glaze().prepared->color(), range));
}
void color_mask_lab(benchmark::State& state) {
  const ColorRange range{ColorSpace::lab, {Range{20.0, 70.0}, {-60, -10}, {-30, 20}}};
  for (auto _ : state) benchmark::DoNotOptimize(color_mask(glaze().prepared->color(), range));
}
void outline_three(benchmark::State& state) { find_it(state, blank(), blank().target->options()); }
void marker_whole_picture(benchmark::State& state) { find_it(state, bore(), bore().target->options()); }
void marker_in_200(benchmark::State& state) {
  FindOptions options = bore().target->options();
  options.region = Region::rectangle(bore().part + Point2{20, -15}, 200, 200, {});
  find_it(state, bore(), options);
}
void edge_in_200(benchmark::State& state) { find_it(state, plate(), plate().target->options()); }
void border_of_five(benchmark::State& state) { find_it(state, panel(), panel().target->options()); }
void components_of_noise(benchmark::State& state) {
  render::Random random(3);
  Image<float> noise(1280, 1024);
  for (int y = 0; y < noise.height(); ++y)
    for (int x = 0; x < noise.width(); ++x) noise(x, y) = static_cast<float>(random.normal());
  noise = smooth(noise.view(), 3);
  Image<uint8_t> mask(1280, 1024);
  for (int y = 0; y < mask.height(); ++y)
    for (int x = 0; x < mask.width(); ++x) mask(x, y) = noise(x, y) > 0 ? 255 : 0;
  size_t count = 0;
  for (auto _ : state) count = components(mask).size();
  state.counters["components"] = static_cast<double>(count);
}

BENCHMARK(fft_correlation_one_angle)->Unit(benchmark::kMillisecond);
BENCHMARK(color_regions)->Unit(benchmark::kMillisecond);
BENCHMARK(color_mask_alone)->Unit(benchmark::kMillisecond);
BENCHMARK(color_mask_lab)->Unit(benchmark::kMillisecond);
BENCHMARK(components_of_noise)->Unit(benchmark::kMillisecond);
BENCHMARK(outline_three)->Unit(benchmark::kMillisecond);
BENCHMARK(marker_whole_picture)->Unit(benchmark::kMillisecond);
BENCHMARK(marker_in_200)->Unit(benchmark::kMillisecond);
BENCHMARK(edge_in_200)->Unit(benchmark::kMillisecond);
BENCHMARK(border_of_five)->Unit(benchmark::kMillisecond);

}  // namespace

int main(int argc, char** argv) { return bench::run_on_one_thread(argc, argv); }
