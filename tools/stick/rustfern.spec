# How the program is packed for a stick (PyInstaller, one-folder mode). The same for Windows, macOS and Linux; made by tools/make_stick.py.
import os
import sys

from PyInstaller.utils.hooks import collect_data_files, collect_submodules, copy_metadata

HERE = os.path.dirname(os.path.abspath(SPEC))  # noqa: F821 - PyInstaller gives it
HIDDEN = [
    *collect_submodules("rustfern"),
    "backports.zstd", "inflate64", "pypdfium2", "pyppmd", "regipy.registry", "resvg_py", "simplejpeg", "xlrd", "xlrd.formula",
]  # fmt: skip
# What the figures' own folder asks of the program's (tools/make_stick.py tells); they lie outside of it.
HIDDEN += [each for each in os.environ.get("RUSTFERN_FOR_FIGURES", "").split() if each]
LEFT_OUT = [
    # What only development, figures and tests need, and parts of libraries that nothing here asks for.
    "IPython", "PIL._imagingft", "PIL.ImageTk", "PIL._avif", "PIL.AvifImagePlugin", "PIL.ImageGrab", "PIL.ImageQt", "_pytest", "arrow", "chardet", "dateutil", "distributed", "dask", "invoke", "markdown_it", "matplotlib", "mypy", "numpy.f2py",
    "numpy.testing", "numpy._core.tests", "pip", "pkg_resources", "pydoc_data", "pygments", "pytest", "setuptools", "tkinter", "test", "lib2to3", "turtledemo", "ensurepip",
]  # fmt: skip

analysis = Analysis(  # noqa: F821
    [os.path.join(HERE, "entry.py")],
    datas=[*collect_data_files("rustfern"), *copy_metadata("rustfern")],
    hiddenimports=HIDDEN,
    excludes=LEFT_OUT,
    noarchive=False,
)
# Libraries that only the parts left out asked for.
UNUSED = ("libavif", "libtcl", "libtk", "libharfbuzz", "libfreetype", "libbrotli", "libpng", "libreadline")
analysis.binaries = [each for each in analysis.binaries if not os.path.basename(each[0]).startswith(UNUSED)]
# Zones of the time are the system's.
analysis.datas = [each for each in analysis.datas if not each[0].replace(os.sep, "/").startswith("pytz/zoneinfo")]
archive = PYZ(analysis.pure)  # noqa: F821
program = EXE(  # noqa: F821
    archive, analysis.scripts, [], exclude_binaries=True, name="rustfern", console=True, strip=False, upx=False,
    contents_directory="parts",
)  # fmt: skip
COLLECT(program, analysis.binaries, analysis.datas, strip=False, upx=False, name=f"rustfern-{sys.platform}")  # noqa: F821
