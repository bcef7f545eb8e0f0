"""What is being done in the background: told, cancelled, tried again."""

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from kettle_web.frame.asking import in_place, wants_json
from kettle_web.jobs import selectors, services
from kettle_web.models import Job


@require_safe
def jobs(request: HttpRequest) -> HttpResponse:
    """Everything that waits, is being done or ended a moment ago."""
    found = selectors.told_jobs()
    if wants_json(request):
        told = [selectors.job_data(job) for job in found]
        return JsonResponse({"jobs": told, "active": selectors.count_active()})
    return render(request, "jobs/jobs.html", {"jobs": found})


@require_POST
def cancel(request: HttpRequest, pk: int) -> HttpResponse:
    """Stop a job."""
    services.cancel(job=get_object_or_404(Job, pk=pk))
    return _after(request)


@require_POST
def do_next(request: HttpRequest, pk: int) -> HttpResponse:
    """Do a job before the others that wait."""
    services.do_next(job=get_object_or_404(Job, pk=pk))
    return _after(request)


@require_POST
def try_again(request: HttpRequest, pk: int) -> HttpResponse:
    """Do a job that failed or was cancelled after all."""
    services.try_again(job=get_object_or_404(Job, pk=pk))
    return _after(request)


def _after(request: HttpRequest) -> HttpResponse:
    return JsonResponse({}) if in_place(request) or wants_json(request) else redirect("jobs")
