import pytest
@pytest.fixture
def tree():
    from tide import Tree
    t = Tree()
    for v in (5, 3, 8, 1): t.insert(v)
    return t
@pytest.fixture(scope="session")
def crew(tmp_path_factory):
    p = tmp_path_factory.mktemp("crew") / "names.txt"; p.write_text("Ann\nBo\n"); return p
@pytest.fixture(autouse=True)
def clean():
    import tide
    tide.Boat.count = 0
    yield
