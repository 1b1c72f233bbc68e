// The README's program, taken from the README itself.
#include "heron/files/picture_file.hpp"
#include "heron/files/target_file.hpp"

using namespace heron;

namespace {

int used = 0;
void use(double, double, Angle, const PoseSigma&) { ++used; }
void explain(const std::vector<MissReason>&) {}

}  // namespace

int main() {
#include "readme_program.inc"
  return used > 0 ? 0 : 1;
}
