from django.urls import include, path

from didactor.archive.views import copy_of
from didactor.assignments.views import create
from didactor.config import addresses
from didactor.letters.views import of_person, own
from didactor.operation.views import health, metrics, ready, troubles
from didactor.progress.views import answer_paper, assignment, class_sheet, group, student
from didactor.stand.views import study, task
from didactor.web.offline import offline, worker
from didactor.web.words_for_pages import words

urlpatterns = [
    # Addresses of things, by which every step of the job may name them.
    path("", addresses.home, name="home"),
    path("sw.js", worker, name="service_worker"),
    path("offline/", offline, name="offline"),
    path("words/<str:code>-<str:version>.js", words, name="words"),
    path("takes/<int:pk>/", addresses.take, name="take"),
    path("stand/<int:pk>/", task, name="task"),
    path("stand/<int:pk>/study/", study, name="study"),
    path("assign/", create, name="assign"),
    path("assignments/<int:pk>/", assignment, name="assignment"),
    path("assignments/<int:pk>/class/", class_sheet, name="class_sheet"),
    path("takes/<int:pk>/answer.pdf", answer_paper, name="answer_paper"),
    path("groups/<int:pk>/", group, name="group"),
    path("students/<int:pk>/passages/", student, name="record"),
    path("letters/", own, name="letters"),
    path("trouble/", troubles, name="troubles"),
    path("health/", health, name="health"),
    path("ready/", ready, name="ready"),
    path("metrics/", metrics, name="metrics"),
    path("letters/of/<int:pk>/", of_person, name="letters_of"),
    path("", include("didactor.people.urls")),
    path("library/", include("didactor.library.urls")),
    path("assignments/", include("didactor.assignments.urls")),
    path("takes/", include("didactor.takes.urls")),
    path("practice/", include("didactor.practice.urls")),
    path("desk/", include("didactor.review.urls")),
    path("record/", include("didactor.progress.urls")),
    path("demo/", include("didactor.demo.urls")),
    path("letters/", include("didactor.letters.urls")),
    path("stand/", include("didactor.stand.urls")),
    path("copies/<int:pk>/", copy_of, name="copy_of"),
    path("copies/", include("didactor.archive.urls")),
]

handler404 = "didactor.web.refusals.not_here"
handler500 = "didactor.web.refusals.broken"
