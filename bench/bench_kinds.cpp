// How the simpler kinds find: a table a kind over hard scenes whose truth is known, and over scenes without
// the part. `bench_kinds [KIND|all] [PICTURES] [FIRST_SEED] [easy] [hard] [empty] [tell] [bound]`; the kinds
// are `scene_kinds` below, without a word for the scenes all three are run, `tell` gives reasons, `bound` the
// Cramer-Rao bound of round parts (seven drawings a picture).
#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <string>

#include "heron/locate/target.hpp"
#include "heron/render/studio_views.hpp"

using namespace heron;

namespace {

using render::StudioFilling;
using render::StudioView;

constexpr const char* scene_kinds[] = {"outline", "backdrop", "color",  "marker", "stud",
                                       "border",  "edge",     "corner", "circle", "stripe"};

StudioView view_of(const std::string& kind, render::Random& random, const StudioFilling& filling) {
  if (kind == "color") return render::glazed_tiles(random, filling);
  if (kind == "outline") return render::leaf_blanks(random, filling);
  if (kind == "backdrop") return render::blanks_on_belt(random, filling);
  if (kind == "border") return render::floor_panel(random, filling);
  if (kind == "stripe") return render::floor_stripe(random, filling);
  if (kind == "marker" || kind == "stud") return render::door_frame(random, filling, kind == "stud");
  StudioView view = render::gauge_plate(random, filling);
  for (render::StudioPart& plate : view.parts) {  // what of it is meant
    if (kind == "circle") plate = render::StudioPart(plate.chips[0]);
    if (kind == "corner") plate.pixel = plate.corners[0];
    plate.corners.clear(), plate.chips.clear();
  }
  return view;
}

/// How a kind is taught from the view of one part at `at`, lying straight.
struct Lesson {
  const char* kind;
  Region region;
  TeachOptions words;
};

Lesson lesson_of(const std::string& kind, const StudioView& view, render::Random& random) {
  using Numbers = std::vector<double>;
  const Point2 at = view.parts[0].pixel;
  const auto around = [&](double width, double height) { return Region::rectangle(at, width, height, {}); };
  if (kind == "color") return {"color", around(44, 44), {.name = "teal"}};
  if (kind == "outline") return {"outline", around(220, 160), {.name = "leaf", .origin = at}};
  if (kind == "backdrop")
    return {"outline",
            around(220, 160),
            {.name = "leaf", .origin = at, .settings = {{"backdrop", std::string("color")}}}};
  if (kind == "border") {
    Numbers drawn;  // by hand: some pixels off
    for (const Point2& p : view.parts[0].corners)
      drawn.push_back(p.x + random.uniform(-6, 6)), drawn.push_back(p.y + random.uniform(-6, 6));
    return {"border",
            around(520, 400),
            {.name = "panel",
             .origin = at,
             .options = FindOptions{.angle = {degrees(-8), degrees(8)}, .scale = {0.95, 1.05}},
             .settings = {{"polyline", drawn}, {"chip_width", 14.0}, {"min_chip", 12.0}}}};
  }
  if (kind == "stripe")
    return {"stripe",
            around(200, 200),
            {.name = "stripe", .settings = {{"ahead", 511.5}, {"top", 0.0}, {"bottom", 1023.0}}}};
  const Point2 plate{639.5, 511.5};
  const Numbers left{plate.x - 220, plate.y + 30, 60, 120, 0},
      upper{plate.x - 80, plate.y - 160, 60, 120, 90}, upper_right{plate.x + 120, plate.y - 160, 60, 120, 90};
  const Region whole = Region::rectangle(plate, 520, 400, {});
  if (kind == "edge")
    return {"edge",
            whole,
            {.name = "plate",
             .origin = at,
             .settings = {{"band", left}, {"second", upper}, {"third", upper_right}}}};
  if (kind == "corner")
    return {
        "edge",
        whole,
        {.name = "corner", .settings = {{"fit", std::string("corner")}, {"band", left}, {"second", upper}}}};
  if (kind == "circle")
    return {"edge",
            whole,
            {.name = "bore",
             .settings = {{"fit", std::string("circle")}, {"arc", Numbers{at.x, at.y, 14, 52, 0, 360}}}}};
  return {"marker", around(96, 96), {.name = kind}};
}

/// Taught from an easy view of one part, lying straight; another one for each seed.
Target taught(const std::string& kind, uint64_t seed) {
  render::Random random(seed);
  const StudioView view = view_of(kind, random, {.parts = 1, .turned = 0});
  const Picture picture = render::picture_of(view, random);
  const Image<uint8_t> grey = grey_levels(picture);
  const Lesson lesson = lesson_of(kind, view, random);
  TeachingPicture from{.grey = grey, .region = lesson.region};
  if (const auto* color = std::get_if<Image<Rgb>>(&picture.pixels)) from.color = *color;
  return teach_target(lesson.kind, from, lesson.words);
}

/// The Cramer-Rao bound of a round part's centre, when radius and light are unknown as well and everything
/// else - what hides it, what is seen through it, the grain of its frame - is known: variances of x and y.
Point2 bound_of(const StudioView& view, const render::StudioPart& part) {
  const auto own = [&](const render::Piece& piece) {
    const Point2 at = view.scene.camera.project({piece.world_from_piece.x, piece.world_from_piece.y, 0});
    const Point2 rim = view.scene.camera.project(
        {piece.world_from_piece.x + norm(piece.outline.loops[0][0]), piece.world_from_piece.y, 0});
    return distance(at, part.pixel) < 1e-6 && std::abs(distance(at, rim) - part.diameter_px / 2) < 1e-3;
  };
  const auto& pieces = view.scene.pieces;
  const auto which = std::find_if(pieces.begin(), pieces.end(), own) - pieces.begin();
  const double mm = norm(pieces.at(static_cast<size_t>(which)).outline.loops[0][0]) / (part.diameter_px / 2);
  const auto draw = [&](const Eigen::VectorXd& off) {  // pixels: x, y, radius
    render::Scene scene = view.scene;
    render::Piece& piece = scene.pieces[static_cast<size_t>(which)];
    piece.world_from_piece.x += off[0] * mm, piece.world_from_piece.y -= off[1] * mm;
    for (auto& loop : piece.outline.loops)
      for (Point2& p : loop) p = p * (1 + off[2] / (part.diameter_px / 2));
    Image<float> picture = render::exact_picture(scene);
    for (int y = 0; y < picture.height(); ++y)  // brighter tells nothing
      for (int x = 0; x < picture.width(); ++x) picture(x, y) = std::min(picture(x, y), 255.0f);
    return picture;
  };
  const Eigen::MatrixXd bound = render::cramer_rao_bound(
      draw, Eigen::VectorXd::Zero(3), Eigen::VectorXd::Constant(3, 0.02), view.noise.sigma);
  return {bound(0, 0), bound(1, 1)};
}

struct Sums {
  Point2 bound;  ///< variances
  int chips = 0, chips_found = 0, chips_wrong = 0;
  int parts = 0, found = 0, wrong = 0, counted = 0, angles = 0;
  int covered_x = 0, covered_y = 0, covered_angle = 0;  ///< truth within two told sigmas
  double x = 0, y = 0, angle = 0, worst = 0, lowest = 100, highest_wrong = 0;
};

void judge_panel(const render::StudioPart& panel, const Detection& s, Sums& sums) {
  for (const NamedPoint& p : s.points) {
    const auto k = static_cast<size_t>(std::atoi(p.name.c_str() + 6) - 1);
    const Point2 off = p.at - panel.corners[k];
    sums.x += off.x * off.x, sums.y += off.y * off.y, sums.worst = std::max(sums.worst, norm(off));
    ++sums.counted, sums.covered_x += std::abs(off.x) <= 2 * p.sigma.x;
    sums.covered_y += std::abs(off.y) <= 2 * p.sigma.y;
  }
  sums.lowest = std::min(sums.lowest, s.score);
  sums.chips += static_cast<int>(panel.chips.size());
  for (const Defect& f : s.defects) {
    bool true_one = false;
    for (const render::StudioPart& chip : panel.chips)
      true_one = true_one || distance(chip.pixel, {f.x, f.y}) < 6;
    ++(true_one ? sums.chips_found : sums.chips_wrong);
  }
}

void judge(const StudioView& view, const FindResult& result, double near, Sums& sums, bool tell) {
  std::vector<bool> met(view.parts.size(), false);
  for (const Detection& s : result.detections) {
    size_t which = view.parts.size();
    for (size_t i = 0; i < view.parts.size(); ++i)
      if (!met[i] && distance(view.parts[i].pixel, {s.x, s.y}) < near) which = i;
    if (which == view.parts.size()) {
      ++sums.wrong, sums.highest_wrong = std::max(sums.highest_wrong, s.score);
      if (tell) std::printf("  wrong at (%.1f, %.1f), score %.1f\n", s.x, s.y, s.score);
      continue;
    }
    met[which] = true;
    ++sums.found;
    if (!view.parts[which].corners.empty()) {  // a border: its corners are the truth
      judge_panel(view.parts[which], s, sums);
      continue;
    }
    ++sums.counted;
    const Point2 off = Point2{s.x, s.y} - view.parts[which].pixel;
    sums.x += off.x * off.x, sums.y += off.y * off.y, sums.worst = std::max(sums.worst, norm(off));
    sums.covered_x += std::abs(off.x) <= 2 * *s.sigma.x, sums.covered_y += std::abs(off.y) <= 2 * *s.sigma.y;
    sums.lowest = std::min(sums.lowest, s.score);
    if (s.has_angle && view.parts[which].kind != "teal") {  // a tile's long axis has no truth here
      const double turn = (s.angle - view.parts[which].angle).wrapped().degrees();
      sums.angle += turn * turn, ++sums.angles;
      sums.covered_angle += std::abs(turn) <= 2 * s.sigma.angle->degrees();
    }
  }
  sums.parts += static_cast<int>(view.parts.size());
  for (size_t i = 0; i < met.size(); ++i)
    if (!met[i] && tell) {
      std::printf("  lost at (%.1f, %.1f):", view.parts[i].pixel.x, view.parts[i].pixel.y);
      for (const Miss& m : result.misses)
        if (distance(view.parts[i].pixel, {m.x, m.y}) < 3 * near)
          for (const MissReason& l : m.reasons)
            std::printf(" %s %.3g (%s)", l.name.c_str(), l.value, l.needed.c_str());
      std::printf("\n");
    }
}

void table(const std::string& kind, int pictures, uint64_t seed, const std::vector<std::string>& words) {
  const auto said = [&](const char* word) {
    return std::find(words.begin(), words.end(), word) != words.end();
  };
  const bool bounded = said("bound") && (kind == "marker" || kind == "stud");
  const bool tell = said("tell"), every = !said("easy") && !said("hard") && !said("empty");
  constexpr int pictures_a_lesson = 10;  // taught anew for the next ten: its errors are in the table too
  const auto run = [&](const StudioFilling& filling, const char* scenes) {
    Sums sums;
    std::optional<Target> target;
    for (int i = 0; i < pictures; ++i) {
      if (i % pictures_a_lesson == 0) target = taught(kind, seed + 1000000 + static_cast<uint64_t>(i));
      const FindOptions options = target->options();
      render::Random random(seed + static_cast<uint64_t>(i));
      const StudioView view = view_of(kind, random, filling);
      const Picture picture = render::picture_of(view, random);
      const PreparedPicture prepared = prepare(picture, *target);
      const FindResult result = find(*target, prepared, options, tell ? Explain::always : Explain::never);
      if (bounded && !view.parts.empty()) sums.bound += bound_of(view, view.parts[0]);
      const int before = sums.wrong, lost = sums.parts - sums.found;
      judge(view, result, 12, sums, tell);
      if (sums.wrong > before || sums.parts - sums.found > lost)
        std::printf("  %s %s, seed %llu: %d wrong, %d lost\n", kind.c_str(), scenes,
                    static_cast<unsigned long long>(seed + static_cast<uint64_t>(i)), sums.wrong - before,
                    sums.parts - sums.found - lost);
    }
    const double n = std::max(1, sums.counted);
    std::printf("%-8s %-6s %6d %6d %8.2f %6d %8.1f %8.1f %9.4f %9.4f %9.4f %8.3f %6.1f %6.1f %6.1f\n",
                kind.c_str(), scenes, pictures, sums.parts,
                sums.parts ? 100.0 * sums.found / sums.parts : 100.0, sums.wrong, sums.lowest,
                sums.highest_wrong, std::sqrt(sums.x / n), std::sqrt(sums.y / n),
                std::sqrt(sums.angle / std::max(1, sums.angles)), sums.worst, 100.0 * sums.covered_x / n,
                100.0 * sums.covered_y / n, 100.0 * sums.covered_angle / std::max(1, sums.angles));
    if (bounded && !filling.empty)
      std::printf("         Cramer-Rao bound %.4f, %.4f px\n", std::sqrt(sums.bound.x / n),
                  std::sqrt(sums.bound.y / n));
    if (kind == "border")
      std::printf("         chips: %d of %d found, %d other things\n", sums.chips_found, sums.chips,
                  sums.chips_wrong);
    std::fflush(stdout);
  };
  if (every || said("easy")) run({.hard = false}, "easy");
  if (every || said("hard")) run({.hard = true}, "hard");
  if (every || said("empty")) run({.hard = true, .empty = true}, "empty");
}

}  // namespace

int main(int argc, char** argv) {
  const std::string which = argc > 1 ? argv[1] : "all";
  const int pictures = argc > 2 ? std::atoi(argv[2]) : 100;
  const uint64_t seed = argc > 3 ? std::strtoull(argv[3], nullptr, 10) : 1000;
  const std::vector<std::string> words(argv + std::min(argc, 4), argv + argc);
  if (which != "all" &&
      std::find(std::begin(scene_kinds), std::end(scene_kinds), which) == std::end(scene_kinds)) {
    std::fprintf(stderr, "no scenes of \"%s\"; there are: all", which.c_str());
    for (const char* kind : scene_kinds) std::fprintf(stderr, ", %s", kind);
    std::fprintf(stderr, "\n");
    return 2;
  }
  std::printf("%-8s %-6s %6s %6s %8s %6s %8s %8s %9s %9s %9s %8s %6s %6s %6s\n", "kind", "scenes", "count",
              "parts", "found %", "wrong", "lowest", "highest", "rms x px", "rms y px", "rms deg", "worst",
              "2s x %", "2s y %", "2s deg");
  for (const char* kind : scene_kinds)
    if (which == "all" || which == kind) table(kind, pictures, seed, words);
}
