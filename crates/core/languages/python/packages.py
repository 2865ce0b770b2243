def let_in(names):
    """Lets installed packages be imported: these, what they need, and no others.

    What else happens to be installed on a machine must not decide whether an answer runs there.
    """
    import importlib.machinery
    import importlib.metadata
    import os
    import re
    import site
    import sys

    places = [it for it in site.getsitepackages() if os.path.isdir(it)]
    plain = lambda name: re.sub(r"[-_.]+", "-", name).lower()
    needs, tops = {}, {}
    for it in importlib.metadata.distributions(path=places):
        name = plain(it.metadata["Name"] or "")
        listed = (it.read_text("top_level.txt") or "").split()
        paths = [str(path).split("/") for path in it.files or ()]
        found = {parts[0].split(".")[0] for parts in paths if len(parts) > 1 or parts[0].endswith((".py", ".so"))}
        tops[name] = {top.split("/")[0] for top in listed} | {top for top in found if top.isidentifier()}
        # A need that stands behind a mark of an extra is not met by default.
        needs[name] = [
            plain(re.match(r"[\w.-]+", need)[0]) for need in it.requires or () if "extra ==" not in need
        ]
    allowed, left = set(), [plain(name) for name in names]
    seen = set(left)
    while left:
        name = left.pop()
        of_top = {it for it in tops if name.replace("-", "_") in tops[it]}
        for it in of_top | ({name} & set(tops)):
            allowed |= tops[it]
            left += [need for need in needs[it] if need not in seen]
            seen |= set(needs[it])
        allowed.add(name.replace("-", "_"))

    class Installed:
        @staticmethod
        def find_spec(name, path=None, target=None):
            if path is None and name in allowed:
                return importlib.machinery.PathFinder.find_spec(name, places)

    sys.meta_path.append(Installed)


