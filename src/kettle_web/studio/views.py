"""The studio page: what goes wrong with the simulated devices, and the computer's switches."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST, require_safe

from kettle_web.frame.engine import engine
from kettle_web.frame.selectors import KIND_WORDS

FAULT_WORDS = {
    "unplugged": "unplugged",
    "busy": "busy",
    "losing": "loses frames",
    "frozen": "frozen",
    "dark": "dark",
    "changed": "other mode",
    "silent": "silent",
    "clipping": "clipping",
    "stamps": "bad stamps",
    "stalling": "in bursts",
    "uneven": "uneven blocks",
}

SWITCH_WORDS = {
    "messages": ("display-2", "Messages pop up"),
    "icons": ("display-2", "Icons on the second display"),
    "bar": ("display-1", "Bar at the bottom of displays"),
    "pings": ("system", "Mail and messages ring"),
    "cloth": ("webcam-1", "Green cloth behind Odile"),
}


@require_safe
def studio(request: HttpRequest) -> HttpResponse:
    """Every simulated device with its faults."""
    state = engine().ask("studio")
    rows = [
        {
            "device": device,
            "kind": KIND_WORDS[device["kind"]],
            "faults": [
                (name, device["faults"].get(name), f"{device['name']}: {words}")
                for name, words in FAULT_WORDS.items()
            ],
        }
        for device in state["devices"]
    ]
    switches = [
        (key, device, words, state["switches"][key])
        for key, (device, words) in SWITCH_WORDS.items()
    ]
    context = {"rows": rows, "switches": switches, "faults": FAULT_WORDS.values()}
    return render(request, "studio/studio.html", context)


@require_POST
def fault(request: HttpRequest) -> HttpResponse:
    """Set a fault off or end it."""
    engine().ask(
        "fault",
        device=request.POST.get("device", ""),
        fault=request.POST.get("fault", ""),
        on=request.POST.get("on") == "1",
    )
    return redirect("studio")


@require_POST
def switch(request: HttpRequest) -> HttpResponse:
    """Turn a switch of the simulated computer."""
    engine().ask(
        "switch",
        device=request.POST.get("device", ""),
        key=request.POST.get("key", ""),
        on=request.POST.get("on") == "1",
    )
    return redirect("studio")
