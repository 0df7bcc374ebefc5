"""Compiles the loops in C, for every processor and for those with wide registers; without a compiler Wertis installs all the same, and is slower."""

import platform

from setuptools import Extension, setup

# sums may be added up in any order, which lets the compiler use wide registers
FLAGS = ["-O3", "-fno-math-errno", "-fno-trapping-math", "-fno-signed-zeros", "-fassociative-math", "-freciprocal-math"]
LEVELS = {"": [], "_3": ["-march=haswell"], "_4": ["-march=skylake-avx512", "-mprefer-vector-width=512"]}
"""Ending of the library's name, and what it needs of an x86-64 processor; core/compiled/__init__.py chooses."""

SOURCES = [f"src/wertis/core/compiled/{name}.c" for name in ("tiles", "mesh", "patches", "png", "grey", "matte", "background", "coons", "fill", "terms")]

setup(ext_modules=[
    Extension(f"wertis.core.compiled._tiles{ending}", SOURCES, optional=True, libraries=["m"],
              extra_compile_args=[*FLAGS, *needs])
    for ending, needs in LEVELS.items() if not needs or platform.machine() in ("x86_64", "AMD64")
])
