#include <fmt/format.h>
#include <unistd.h>

#include <filesystem>
#include <iostream>

#include "any_camera.hpp"
#include "commands.hpp"
#include "heron/base/error.hpp"
#include "heron/camera/exposure.hpp"
#include "heron/camera/pause.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/recording.hpp"
#include "log.hpp"
#include "options.hpp"
#include "stopping.hpp"

namespace heron::tool {
namespace {

using Clock = std::chrono::steady_clock;

struct RecordOptions {
  std::string camera, folder, region, merge, drop, order;
  int count = 0;
  double every_ms = 0, bright = 0, longest = 0;
  std::optional<double> exposure, gain;
  bool step = false, append = false;
};

/// Whole numbers from 1 to `most`, separated by commas.
std::vector<size_t> numbers_of(const std::string& text, size_t most, const char* option) {
  std::vector<size_t> numbers;
  const auto count = static_cast<size_t>(std::count(text.begin(), text.end(), ',')) + 1;
  for (const double v :
       parse_numbers(text, count, option, "numbers of pictures, from 1, separated by commas")) {
    if (v < 1 || v > static_cast<double>(most) || v != std::floor(v))
      fail_argument(fmt::format("{} '{}': the recording has pictures 1 to {}", option, text, most));
    if (std::count(numbers.begin(), numbers.end(), static_cast<size_t>(v)))
      fail_argument(fmt::format("{} '{}': {} is named twice", option, text, v));
    numbers.push_back(static_cast<size_t>(v));
  }
  return numbers;
}

int edit(const RecordOptions& o) {
  Recording r = load_recording(o.folder);
  if (!r.indexed)
    fail_argument(
        fmt::format("{}: has no index recording.toml, so its pictures stay as they are; `heron record "
                    "recording:{} --output COPY` makes a recording of them",
                    o.folder, o.folder));
  if (!o.order.empty()) {
    const auto order = numbers_of(o.order, r.size(), "--order");
    if (order.size() != r.size())
      fail_argument(
          fmt::format("--order '{}': {} numbers; the recording has {} pictures, and each is named once",
                      o.order, order.size(), r.size()));
    std::vector<RecordedPicture> pictures;
    for (const size_t n : order) pictures.push_back(r.pictures[n - 1]);
    // Their times no longer grow; they are replayed at once.
    for (RecordedPicture& p : pictures) p.at_s.reset();
    r.pictures = std::move(pictures);
  }
  std::vector<std::string> dropped;
  if (!o.drop.empty()) {
    auto drop = numbers_of(o.drop, r.size(), "--drop");
    if (drop.size() == r.size()) fail_argument("--drop: a recording keeps at least one picture");
    std::sort(drop.rbegin(), drop.rend());
    for (const size_t n : drop)
      dropped.push_back(r.path(n - 1)),
          r.pictures.erase(r.pictures.begin() + static_cast<std::ptrdiff_t>(n - 1));
  }
  save_recording(r);  // the index first: it never names a file that is gone
  for (const std::string& path : dropped) std::filesystem::remove(path);
  fmt::print("{}: {} pictures{}\n", o.folder, r.size(),
             dropped.empty() ? "" : fmt::format(", {} dropped", dropped.size()));
  return 0;
}

/// One picture; of several exposures merged when that is asked for.
std::optional<Picture> shoot(Camera& camera, const std::vector<double>& exposures) {
  if (exposures.empty()) return camera.take();
  std::vector<Image<uint8_t>> pictures;
  std::optional<Picture> last;
  for (const double ms : exposures) {
    camera.set_exposure_ms(ms);
    last = camera.take();
    if (!last) return std::nullopt;
    pictures.push_back(grey_levels(*last));
  }
  last->pixels = merge_exposures(pictures, exposures);
  last->exposure_ms.reset();
  return last;
}

/// A name that no picture of the recording has.
std::string free_name(const Recording& r) {
  for (size_t n = r.size() + 1;; ++n) {
    const std::string name = fmt::format("picture-{:04}.png", n);
    if (!std::filesystem::exists(r.folder + "/" + name)) return name;
  }
}

/// Writes the index with one picture more; without room for that, the picture goes as well.
void add_to(Recording& r, const RecordedPicture& picture) {
  r.pictures.push_back(picture);
  try {
    save_recording(r);
  } catch (const Error&) {
    std::error_code ignored;
    std::filesystem::remove(r.path(r.size() - 1), ignored);
    r.pictures.pop_back();
    throw;
  }
}

void prepare(Camera& camera, const RecordOptions& o) {
  if (o.exposure) camera.set_exposure_ms(*o.exposure);
  if (o.gain) camera.set_gain(*o.gain);
  if (o.bright == 0) return;
  const Region region = o.region.empty() ? Region() : Region::rectangle(parse_box(o.region, "--region"));
  const BrightnessReached b =
      bring_to_brightness(camera, region, {.level = o.bright, .longest_ms = o.longest});
  log_note("record: brightness {:.0f} with {:.3g} ms{} after {} pictures{}", b.level, b.exposure_ms,
           b.gain ? fmt::format(" and gain {:.3g}", *b.gain) : "", b.pictures,
           b.reached ? "" : "; NOT as wanted: " + b.reason);
}

int record(const RecordOptions& o) {
  const Work& stop = stop_on_signals();
  const auto camera = open_any_camera(o.camera, Pace::as_taken, &stop);
  std::vector<double> exposures;
  if (!o.merge.empty())
    exposures =
        parse_numbers(o.merge, static_cast<size_t>(std::count(o.merge.begin(), o.merge.end(), ',')) + 1,
                      "--merge", "exposures in ms, as 2,8,32");
  const bool exists = std::filesystem::exists(o.folder + "/recording.toml");
  if (exists && !o.append)
    throw Error(ErrorCode::not_writable, ErrorPlace{o.folder},
                "holds a recording already; --append adds to it, another --output keeps both");
  std::error_code error;
  std::filesystem::create_directories(o.folder, error);
  if (error)
    throw Error(ErrorCode::not_writable, ErrorPlace{o.folder},
                fmt::format("cannot be made: {}", error.message()));
  Recording r = exists ? load_recording(o.folder) : Recording{o.folder, {}};
  prepare(*camera, o);

  const bool terminal = isatty(STDERR_FILENO);
  const double offset = r.pictures.empty() ? 0 : r.pictures.back().at_s.value_or(0) + 1;
  const auto begun = Clock::now();
  int taken = 0;
  std::string trouble;
  while (!stop.stopped() && (o.count == 0 || taken < o.count)) {
    if (o.step) {
      fmt::print(stderr, "Enter takes picture {}, q ends: ", r.size() + 1);
      std::string line;
      if (!std::getline(std::cin, line) || line == "q") break;
    } else if (o.every_ms > 0) {
      const auto due = begun + std::chrono::duration_cast<Clock::duration>(
                                   std::chrono::duration<double, std::milli>(o.every_ms * taken));
      pause_until(due, &stop);
      if (stop.stopped()) break;
    }
    try {
      const double at = offset + std::chrono::duration<double>(Clock::now() - begun).count();
      const auto picture = shoot(*camera, exposures);
      if (!picture) break;  // a recording that ended
      const std::string name = free_name(r);
      save_picture(r.folder + "/" + name, *picture);
      add_to(r, {name, std::round(at * 1000) / 1000, picture->exposure_ms, picture->gain});
    } catch (const Error& e) {
      // What was recorded before stays a whole recording.
      if (e.code() != ErrorCode::no_connection && e.code() != ErrorCode::not_writable) throw;
      trouble = e.what();
      break;
    }
    ++taken;
    fmt::print(stderr, "{}{} picture{}{}{}", terminal ? "\r" : "heron: record: ", taken,
               taken == 1 ? "" : "s", o.count ? fmt::format(" of {}", o.count) : "", terminal ? "   " : "\n");
  }
  if (terminal) fmt::print(stderr, "\n");
  fmt::print("{}: {} pictures recorded, {} in all\n", o.folder, taken, r.size());
  // Without a number of pictures, a signal is how a recording is meant to end.
  if (trouble.empty()) return status_after_stop(taken > 0 ? 0 : 1, o.count == 0 && taken > 0);
  log_error("record: stopped: {}{} {}", trouble, trouble.ends_with('?') ? "" : ".",
            taken > 0 || exists ? "What was recorded before is whole" : "Nothing was recorded");
  return 2;
}

}  // namespace

void add_record(CLI::App& app, Action& action) {
  auto o = std::make_shared<RecordOptions>();
  CLI::App* c =
      app.add_subcommand("record", "Records a camera's pictures into a folder, or edits a recording");
  c->add_option("camera", o->camera,
                "recording:FOLDER, simulated:SEED, v4l2:/dev/video0, http://..., genicam:NAME");
  c->add_option("--output", o->folder, "folder of the recording")->required();
  c->add_option("--count", o->count, "number of pictures; default: until Ctrl-C")
      ->check(CLI::Range(1, 1000000));
  c->add_option("--every", o->every_ms, "interval between pictures, milliseconds")
      ->check(CLI::Range(0.0, 86400000.0));
  c->add_flag("--step", o->step, "waits for Enter before each picture");
  c->add_flag("--append", o->append, "adds to an existing recording");
  c->add_option("--exposure", o->exposure, "exposure time, milliseconds")->group("Exposure");
  c->add_option("--gain", o->gain, "gain, in the camera's unit")->group("Exposure");
  c->add_option("--bright", o->bright,
                "first adjusts exposure, then gain, until the brightest 2 % of --region have this grey level")
      ->group("Exposure");
  c->add_option("--longest", o->longest, "longest exposure that --bright may choose, milliseconds")
      ->group("Exposure");
  c->add_option("--region", o->region, "X,Y,WIDTH,HEIGHT of the region for --bright")->group("Exposure");
  c->add_option("--merge", o->merge,
                "exposures in milliseconds, for example 2,8,32, that are merged into one 16-bit picture")
      ->group("Exposure");
  c->add_option("--drop", o->drop, "removes these pictures from the recording, for example 2,5")
      ->group("Editing");
  c->add_option("--order", o->order, "reorders the pictures, for example 3,1,2")->group("Editing");
  c->footer(
      "Example: heron record simulated:1 --count 10 --every 200 --bright 200 --output parts\n         heron "
      "record --output parts --drop 2,5");
  c->callback([o, &action] {
    action = [o] {
      const bool edits = !o->drop.empty() || !o->order.empty();
      if (edits == !o->camera.empty())
        fail_argument(
            "record: give either a camera to record from, or --drop or --order to edit the recording in "
            "--output");
      return edits ? edit(*o) : record(*o);
    };
  });
}

}  // namespace heron::tool
