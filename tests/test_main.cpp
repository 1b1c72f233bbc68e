#define DOCTEST_CONFIG_IMPLEMENT
#include <doctest/doctest.h>
#include <hwy/targets.h>

#include <cstdio>
#include <cstring>

/// doctest's own options, and `--vectors 16` or `--vectors 32`: the kernels are those of a processor whose
/// vectors have no more bytes.
int main(int argc, char** argv) {
  for (int i = 1; i + 1 < argc; ++i) {
    if (std::strcmp(argv[i], "--vectors") != 0) continue;
#if HWY_ARCH_X86
    const bool of_16 = std::strcmp(argv[i + 1], "16") == 0;
    if (!of_16 && std::strcmp(argv[i + 1], "32") != 0) {
      std::fprintf(stderr, "--vectors %s must be 16 or 32\n", argv[i + 1]);
      return 1;
    }
    int64_t wider = HWY_AVX3 | HWY_AVX3_DL;
    if (of_16) wider |= HWY_AVX2;
    hwy::DisableTargets(wider);
#endif
  }
  return doctest::Context(argc, argv).run();
}
