#pragma once
#include <CLI/CLI.hpp>
#include <functional>

namespace heron::tool {

/// A command sets its options and says what to do when it was called; the result is the exit status: 0 done,
/// 1 the answer is "no", 2 wrong use or bad input.
using Action = std::function<int()>;

void add_cameras(CLI::App& app, Action& action);
void add_record(CLI::App& app, Action& action);
void add_light(CLI::App& app, Action& action);
void add_level(CLI::App& app, Action& action);
void add_board(CLI::App& app, Action& action);
void add_calibrate(CLI::App& app, Action& action);
void add_rings(CLI::App& app, Action& action);
void add_map(CLI::App& app, Action& action);
void add_teach(CLI::App& app, Action& action);
void add_find(CLI::App& app, Action& action);
void add_study(CLI::App& app, Action& action);
void add_gauge(CLI::App& app, Action& action);
void add_track(CLI::App& app, Action& action);
void add_run(CLI::App& app, Action& action);
void add_replay(CLI::App& app, Action& action);
void add_verify(CLI::App& app, Action& action);
void add_simulate(CLI::App& app, Action& action);
void add_demo(CLI::App& app, Action& action);
void add_demo_cart(CLI::App& demo, Action& action);
void add_demo_bench(CLI::App& demo, Action& action);

}  // namespace heron::tool
