"""Compiles the loops in C; without a compiler Wertis installs all the same, and is slower."""

from setuptools import Extension, setup

setup(ext_modules=[Extension(
    "wertis.core.compiled._tiles", ["src/wertis/core/compiled/tiles.c"], optional=True, libraries=["m"],
    # sums may be added up in any order, which lets the compiler use wide registers
    extra_compile_args=["-O3", "-fno-math-errno", "-fno-trapping-math", "-fno-signed-zeros", "-fassociative-math", "-freciprocal-math"],
)])
