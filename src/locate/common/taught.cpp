#include "heron/locate/taught.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cmath>

#include "heron/locate/setting.hpp"

namespace heron {

bool honours(const KindInfo& kind, std::string_view limit) {
  return std::any_of(kind.options.begin(), kind.options.end(),
                     [&](const char* name) { return name == limit; });
}

void require_inside(const Region& region, int width, int height) {
  if (region.empty())
    fail_argument("teach: the region is empty; give the part's place, for example --region 100,80,200,150");
  const Box box = region.bounds();
  // The picture ends half a pixel before its width; a region of exactly that width is the whole picture all
  // the same.
  if (box.x < -0.5 || box.y < -0.5 || box.x + box.width > width || box.y + box.height > height)
    fail_argument(
        fmt::format("teach: the region spans {}..{} x {}..{}, the picture 0..{} x 0..{}; it must lie inside",
                    box.x, box.x + box.width, box.y, box.y + box.height, width, height));
}

void require_origin(Point2 origin) {
  constexpr double most = 1e6;
  if (!(std::abs(origin.x) <= most && std::abs(origin.y) <= most))
    fail_argument(fmt::format("the origin {:g},{:g} must lie within a million pixels of the picture",
                              origin.x, origin.y));
}

TaughtPicture cut_out(const TeachingPicture& from, const std::optional<Point2>& origin, int margin_px) {
  const auto& picture = from.grey;
  if (origin) require_origin(*origin);
  require_inside(from.region, picture.width(), picture.height());
  if (!from.valid.empty() &&
      (from.valid.width() != picture.width() || from.valid.height() != picture.height()))
    fail_argument("teach: picture and what is valid of it differ in size");
  const Box box = from.region.bounds();
  const int x0 = std::max(0, static_cast<int>(std::floor(box.x)) - margin_px),
            y0 = std::max(0, static_cast<int>(std::floor(box.y)) - margin_px);
  const int x1 = std::min(picture.width(), static_cast<int>(std::ceil(box.x + box.width)) + margin_px);
  const int y1 = std::min(picture.height(), static_cast<int>(std::ceil(box.y + box.height)) + margin_px);
  const Image<uint8_t> whole = from.region.mask(x1, y1);
  TaughtPicture taught;
  taught.pixels = Image<uint8_t>(x1 - x0, y1 - y0), taught.mask = Image<uint8_t>(x1 - x0, y1 - y0);
  if (!from.color.empty()) taught.color = Image<Rgb>(x1 - x0, y1 - y0);
  taught.origin = origin.value_or(box.centre()) - Point2{static_cast<double>(x0), static_cast<double>(y0)};
  for (int y = y0; y < y1; ++y)
    for (int x = x0; x < x1; ++x) {
      const bool counts = whole(x, y) && (from.valid.empty() || from.valid(x, y));
      if (!counts && margin_px == 0) continue;
      taught.mask(x - x0, y - y0) = counts ? 255 : 0;
      taught.pixels(x - x0, y - y0) = picture(x, y);
      if (!from.color.empty()) taught.color(x - x0, y - y0) = from.color(x, y);
    }
  return taught;
}

void require_usable(const TeachingPicture& from, const KindInfo& kind) {
  require_inside(from.region, from.grey.width(), from.grey.height());
  if (!kind.backgrounds && !from.backgrounds.empty())
    fail_argument(fmt::format("teach: a {} has no use for an empty background", kind.id));
  if (!kind.counter_samples && !from.counter_samples.empty())
    fail_argument(fmt::format("teach: a {} has no use for counter-samples", kind.id));
  for (const auto& background : from.backgrounds)
    if (background.width() != from.grey.width() || background.height() != from.grey.height())
      fail_argument(
          fmt::format("teach: the background has {} x {} pixels, the picture {} x {}; both must be "
                      "taken by the same camera",
                      background.width(), background.height(), from.grey.width(), from.grey.height()));
}

size_t word_index(const std::string& name, const std::string& word, const std::vector<const char*>& words) {
  const auto at = std::find(words.begin(), words.end(), word);
  if (at == words.end())
    fail_argument(fmt::format("{} \"{}\" must be one of: {}", name, word, fmt::join(words, ", ")));
  return static_cast<size_t>(at - words.begin());
}

void refuse_setting(const std::string& name, const char* needs) {
  fail_argument(fmt::format("{} must be {}", name, needs));
}

}  // namespace heron
