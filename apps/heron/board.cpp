#include <fmt/format.h>

#include <cmath>
#include <filesystem>

#include "commands.hpp"
#include "heron/draw/board_sheet.hpp"
#include "heron/files/atomic_file.hpp"
#include "options.hpp"

namespace heron::tool {
namespace {

/// Printers "fit to page" what is too large, and every length on it is wrong then.
void tell_of_a4(BoardShape shape) {
  double pitch = std::floor(shape.pitch_mm);
  for (; pitch >= 2; --pitch) {
    shape.pitch_mm = pitch;
    if (sheet_size(shape).fits_a4()) break;
  }
  fmt::print("larger than A4: print it on larger paper, never scaled to fit{}\n",
             pitch >= 2 ? fmt::format("; --pitch {:g} fits A4", pitch) : "");
}

}  // namespace

void add_board(CLI::App& app, Action& action) {
  struct BoardOptions {
    std::string kind = "dots", output;
    BoardShape shape;
    RingShape ring;
    double dpi = 300;
  };
  auto o = std::make_shared<BoardOptions>();
  CLI::App* c = app.add_subcommand("board", "Draws a calibration board for printing at true size");
  c->add_option("--kind", o->kind, "dots, checker, or ring (a single mark to attach to a table or a carrier)")
      ->capture_default_str();
  c->add_option("--columns", o->shape.columns, "dots, or inner corners, along X")->capture_default_str();
  c->add_option("--rows", o->shape.rows, "dots, or inner corners, along Y")->capture_default_str();
  c->add_option("--pitch", o->shape.pitch_mm, "millimetres from one to the next")->capture_default_str();
  c->add_option("--identity", o->ring.identity, "of a ring mark, 1 to 19")->capture_default_str();
  c->add_option("--diameter", o->ring.diameter_mm, "outer diameter of a ring mark, millimetres")
      ->capture_default_str();
  c->add_option("--output", o->output, "FILE.pdf, FILE.svg or FILE.png")->required();
  c->add_option("--dpi", o->dpi, "dots per inch of a PNG")->capture_default_str();
  c->footer(
      "Example: heron board --kind dots --columns 13 --rows 11 --pitch 18 --output board.pdf\n"
      "         heron board --kind ring --identity 3 --diameter 40 --output ring-3.pdf\nPrint at 100 %, then "
      "measure both bars at its foot and side.");
  c->callback([o, &action] {
    action = [o] {
      const std::string ending = std::filesystem::path(o->output).extension().string();
      if (o->kind == "ring") {
        write_file(o->output, ring_sheet(o->ring, ending, o->dpi));
        fmt::print("{}: ring {}, {:g} mm\n", o->output, o->ring.identity, o->ring.diameter_mm);
        return 0;
      }
      o->shape.kind = parse_board_kind(o->kind);
      write_file(o->output, board_sheet(o->shape, ending, o->dpi));
      const SheetSize size = sheet_size(o->shape);
      fmt::print("{}: {} {} x {}, pitch {:g} mm, on a sheet of {:.0f} x {:.0f} mm\n", o->output, o->kind,
                 o->shape.columns, o->shape.rows, o->shape.pitch_mm, size.width, size.height);
      if (!size.fits_a4()) tell_of_a4(o->shape);
      return 0;
    };
  });
}

}  // namespace heron::tool
