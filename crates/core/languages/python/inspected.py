"""What `inspect` says of stand-ins for classes and their members: what the other side's says of what they stand for."""


def inspect_stand_ins(link):
    import inspect

    signature, has_flag = getattr(inspect, "_signature_from_callable", None), getattr(inspect, "_has_code_flag", None)

    def signature_of(it, *args, **kwargs):
        if is_member(it) or isinstance(it, StandInType) and "_apart_id" in vars(it):
            try:
                return parameters_of(link, *named(it))
            except (ValueError, LookupError):
                pass
        return signature(it, *args, **kwargs)

    def has_flag_of(it, flag):
        while isinstance(it, types.MethodType):
            it = it.__func__
        try:
            return bool(link.request("flags", *named(it)) & flag) if is_member(it) else has_flag(it, flag)
        except LookupError:
            return has_flag(it, flag)

    def named(it):
        """A class and the name of a member; no name where it is the class itself."""
        return (link.classes[it._apart_class], it._apart_member) if is_member(it) else (it, None)

    # A language that has them no longer says what it knows.
    if signature and has_flag:
        inspect._signature_from_callable, inspect._has_code_flag = signature_of, has_flag_of


def parameters_of(link, it, name=None):
    import inspect

    none, kind = inspect.Parameter.empty, inspect._ParameterKind
    parts = [inspect.Parameter(n, kind(k), default=d if has else none) for n, k, has, d in link.request("signature", it, name)]
    return inspect.Signature(parts)
