"""The package as strangers get it: a wheel that is built from the source archive, installed by itself.

With the Python that runs this, and with the newest that is found; the job of the README is done with both.
"""

import shutil
import subprocess
import sys
import tarfile
import tempfile
import zipfile
from pathlib import Path

ROOT = Path(__file__).parent.parent
NEWEST = range(20, 10, -1)  # of 3.N


def run(*words, cwd=None):
    """Run it; what it prints where it fails."""
    done = subprocess.run([*map(str, words)], cwd=cwd, capture_output=True, text=True)
    if done.returncode:
        sys.exit(f"{' '.join(map(str, words))}\n{done.stdout}{done.stderr}")
    return done.stdout


def wanted():
    """Every file of the package, as it is called inside."""
    files = (path.relative_to(ROOT / "src") for path in (ROOT / "src" / "tachys").rglob("*") if path.is_file())
    return {str(path) for path in files if "__pycache__" not in path.parts}


def built(folder):
    """The wheel of the source archive of this folder, with all files in both."""
    run(sys.executable, "-m", "build", "--outdir", folder, ROOT)
    (wheel,), (archive,) = folder.glob("*.whl"), folder.glob("*.tar.gz")
    packed = set(zipfile.ZipFile(wheel).namelist())
    with tarfile.open(archive) as opened:
        source = {name.partition("/src/")[2] for name in opened.getnames()}
    for name, there in (("wheel", packed), ("source archive", source)):
        if missing := wanted() - there:
            sys.exit(f"the {name} lacks {', '.join(sorted(missing))}")
    return wheel


def newest():
    """The newest Python that is found and runs; where none is newer, the one that runs this."""
    for minor in (each for each in NEWEST if each > sys.version_info.minor):
        found = shutil.which(f"python3.{minor}")
        if found and not subprocess.run([found, "-c", "import ensurepip"], capture_output=True).returncode:
            return found
    return sys.executable


def tried(python, package, folder):
    """Install it into an environment of its own and do the job with it."""
    run(python, "-m", "venv", folder / "env")
    pins = ROOT / "constraints.txt"
    run(folder / "env/bin/python", "-m", "pip", "install", "-q", "--no-compile", "-c", pins, package)
    tachys = folder / "env/bin/tachys"
    told = run(tachys, "--version", "-v").splitlines()
    run(tachys, "demo", cwd=folder)
    run(tachys, "new", "board", "--like", "milk-tank", cwd=folder)
    run(tachys, "words", "jitter")
    run(tachys, "marks", "row-unit/row_unit.toml", "-o", "src", cwd=folder)
    run(tachys, "report", "row-unit/row_unit.toml", "-o", "page.html", cwd=folder)
    print(f"{package.name}: {told[0]}, {told[1]}: the demo, an example, a header and a page")


def main():
    """Build, look, install, run."""
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as place:  # what compiles behind may still write
        folder = Path(place)
        wheel = built(folder / "dist")
        for number, python in enumerate(dict.fromkeys((sys.executable, newest()))):
            (folder / str(number)).mkdir()
            tried(python, wheel, folder / str(number))


if __name__ == "__main__":
    main()
