#include "heron/station/drift.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>

#include "heron/base/error.hpp"
#include "heron/base/median.hpp"
#include "heron/light/light.hpp"
#include "heron/report/watched.hpp"

namespace heron {
namespace {

using DriftJson = nlohmann::ordered_json;

constexpr double sigmas = 6;  // of the average, which is looked at with every picture for years

/// What matters at all, however steady a quantity was while it was learned.
double least_change(const std::string& name, double mean) {
  if (name == watched::score) return 1;
  if (name == watched::contrast) return 0.03 * std::abs(mean);
  if (name == watched::brightness) return std::max(1.0, 0.02 * std::abs(mean));
  if (name == watched::elapsed_ms) return std::max(2.0, 0.3 * std::abs(mean));
  if (name == watched::measured) return 0.01;
  if (name == watched::saturation) return 0.5;
  if (name == watched::underexposure) return 2;
  if (name == watched::uniformity) return 5;
  if (name == watched::sharpness || name == watched::noise) return std::max(0.2, 0.1 * std::abs(mean));
  if (name == watched::glare) return 0.5;
  if (name == watched::reference_seen) return 0.3;
  return 0.1;  // pixels, of the reference
}

const DriftWarning* warned(const std::vector<DriftWarning>& warnings, const char* name) {
  for (const DriftWarning& w : warnings)
    if (w.quantity == name) return &w;
  return nullptr;
}

/// Of what judge_light measures; nothing for another quantity.
const char* cause_of_quality(const std::string& quantity, bool fell) {
  if (quantity == watched::saturation)
    return fell ? "less is white: the light or the exposure has changed"
                : "more is white and holds nothing: shorten the exposure, or look for stray light";
  if (quantity == watched::underexposure)
    return fell ? "less is black: the light or the exposure has changed"
                : "more is black and holds nothing: the lamp fades, or something shades it";
  if (quantity == watched::uniformity)
    return fell ? "the light is more even than it was"
                : "one side gets less light: one of several lamps fades";
  if (quantity == watched::sharpness)
    return fell ? "edges are sharper: the lens was focused anew"
                : "edges are wider: the lens is out of focus or dirty, or the picture smears";
  if (quantity == watched::noise)
    return fell ? "the gain was changed"
                : "the gain was raised, the sensor is warm, or dust lies in the light";
  if (quantity == watched::glare)
    return fell ? "a reflection of the lamp is gone"
                : "the lamp is reflected: it or something shiny has moved";
  return nullptr;
}

/// What is likely the reason, of all that moved together.
std::string cause_of(const DriftWarning& w, const std::vector<DriftWarning>& all) {
  const bool fell = w.value < w.usual;
  const DriftWarning* bright = warned(all, watched::brightness);
  if (w.quantity == watched::reference_x || w.quantity == watched::reference_y)
    return "the camera or the reference was moved; calibrate again";
  if (w.quantity == watched::reference_seen) return "the reference is covered, dirty or gone";
  if (w.quantity == watched::brightness)
    return fell ? "the lamp fades, its glass or the lens is dirty, or the exposure was changed"
                : "stray light, or the exposure was changed";
  if (const char* cause = cause_of_quality(w.quantity, fell)) return cause;
  if (w.quantity == watched::measured) return "the sensor sees less: dirt, glare, or another distance";
  if (w.quantity == watched::elapsed_ms)
    return "the machine is busy with something else, or the pictures hold more";
  if (bright) return "the light has changed as well";
  if (w.quantity == watched::contrast)
    return fell ? "the lens is out of focus or dirty, or the parts' surface has changed"
                : "the parts' surface has changed";
  return fell ? "the parts are not as they were taught" : "the parts are more like the taught one";
}

}  // namespace

double UsualValue::sigma() const {
  return count > 1 ? std::sqrt(squares / static_cast<double>(count - 1)) : 0;
}

double UsualValue::correlation() const { return squares > 0 ? std::clamp(products / squares, 0.0, 0.98) : 0; }

std::map<std::string, double> watched_quantities(const Report& report) {
  std::map<std::string, double> quantities(report.watched.begin(), report.watched.end());
  if (!report.unusable.empty()) return quantities;
  quantities[watched::elapsed_ms] = report.elapsed_ms;
  std::vector<double> scores, contrasts;
  for (const ReportedPart& p : report.parts)
    scores.push_back(p.detection.score), contrasts.push_back(p.detection.contrast);
  if (scores.empty()) return quantities;
  quantities[watched::score] = median(scores), quantities[watched::contrast] = median(contrasts);
  return quantities;
}

std::string poor_light(const std::map<std::string, double>& watched) {
  std::string words;
  for (const char* name : {watched::saturation, watched::underexposure, watched::uniformity,
                           watched::sharpness, watched::noise, watched::glare}) {
    const auto at = watched.find(name);
    if (at != watched.end() && light_fitness(name, at->second) == Fitness::poor)
      words += fmt::format("{}{} {:.3g}", words.empty() ? "" : ", ", name, at->second);
  }
  return words;
}

DriftWatch::DriftWatch(const DriftSettings& settings, const std::string& learned, const std::string& from)
    : settings_(settings), weight_(2.0 / (settings.memory + 1)) {
  if (settings.learn < 20 || settings.memory < 5)
    fail_argument(fmt::format("drift: learn is {} and memory {}; at least 20 and 5 pictures", settings.learn,
                              settings.memory));
  if (learned.empty()) return;
  try {
    const DriftJson all = DriftJson::parse(learned);
    for (const auto& [name, j] : all.at("usual").items()) {
      const UsualValue u{j.at("count"),    j.at("mean"),    j.at("squares"), j.at("last"),
                         j.at("products"), j.at("average"), j.at("largest")};
      if (u.count < 1 || !(u.squares >= 0) || !(u.largest >= 0))
        throw std::invalid_argument("a value is out of range");
      usual_[name] = u;
    }
  } catch (const std::exception& error) {
    fail_file(
        {.file = from},
        fmt::format("holds nothing that was learned of drift ({}); remove it to learn anew", error.what()));
  }
}

std::string DriftWatch::learned() const {
  DriftJson j{{"version", 1}, {"usual", DriftJson::object()}};
  for (const auto& [name, u] : usual_)
    j["usual"][name] = {{"count", u.count},    {"mean", u.mean},         {"squares", u.squares},
                        {"last", u.last},      {"products", u.products}, {"average", u.average},
                        {"largest", u.largest}};
  return j.dump();
}

/// Welford's sums (Note on a method for calculating corrected sums of squares and products, Technometrics 4,
/// 1962); the average's excursions count from the second half on, when the mean is known.
void DriftWatch::learn(UsualValue& u, double value) const {
  ++u.count;
  const double off = value - u.mean;
  u.mean += off / static_cast<double>(u.count);
  u.squares += off * (value - u.mean);
  if (u.count > 1) u.products += (value - u.mean) * (u.last - u.mean);
  u.last = value;
  if (2 * u.count <= settings_.learn) {
    u.average = u.mean;
    return;
  }
  u.average += weight_ * (value - u.average);
  u.largest = std::max(u.largest, std::abs(u.average - u.mean));
}

std::optional<double> DriftWatch::limit(const std::string& quantity) const {
  const auto at = usual_.find(quantity);
  if (at == usual_.end() || at->second.count < settings_.learn) return std::nullopt;
  return limit_of(quantity, at->second);
}

double DriftWatch::limit_of(const std::string& name, const UsualValue& u) const {
  const double follows = u.correlation() * (1 - weight_);
  const double sigma = u.sigma() * std::sqrt(weight_ / (2 - weight_) * (1 + follows) / (1 - follows));
  return std::max({sigmas * sigma, 2 * u.largest, least_change(name, u.mean)});
}

std::vector<DriftWarning> DriftWatch::take(const std::map<std::string, double>& quantities) {
  for (const auto& [name, value] : quantities) {
    if (!std::isfinite(value)) continue;
    UsualValue& u = usual_[name];
    if (u.count < settings_.learn)
      learn(u, value);
    else
      u.average += weight_ * (value - u.average);
  }
  std::vector<DriftWarning> warnings;
  for (const auto& [name, u] : usual_) {
    if (u.count < settings_.learn) continue;
    const double limit = limit_of(name, u), off = std::abs(u.average - u.mean);
    if (off > limit || (beyond_.contains(name) && off > 0.5 * limit))
      warnings.push_back({name, u.average, u.mean, limit, {}});
  }
  beyond_.clear();
  for (const DriftWarning& w : warnings) beyond_.insert(w.quantity);
  for (DriftWarning& w : warnings) w.cause = cause_of(w, warnings);
  return warnings;
}

bool DriftWatch::learning() const {
  return usual_.empty() || std::any_of(usual_.begin(), usual_.end(),
                                       [&](const auto& u) { return u.second.count < settings_.learn; });
}

}  // namespace heron
