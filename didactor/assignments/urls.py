from django.urls import path

from didactor.assignments import planning_views, slot_views, views

app_name = "assignments"
urlpatterns = [
    path("", views.index, name="index"),
    path("new/parts/", views.parts_fragment, name="parts_fragment"),
    path("<int:pk>/progress/", views.progress_fragment, name="progress_fragment"),
    path("parts/<int:pk>/", views.part, name="part"),
    path("new/checklist/", planning_views.checklist_fragment, name="checklist_fragment"),
    path("<int:pk>/change/", planning_views.change, name="change"),
    path("<int:pk>/spoken/", planning_views.spoken, name="spoken"),
    path("<int:pk>/withdraw/", planning_views.withdraw, name="withdraw"),
    path("<int:pk>/give/", planning_views.give, name="give"),
    path("parts/<int:pk>/withdraw/", planning_views.withdraw_task, name="withdraw_task"),
    path("parts/<int:pk>/exception/", planning_views.exception, name="exception"),
    path("parts/<int:pk>/decide/", planning_views.decide_answer, name="decide_answer"),
    path("series/<int:pk>/", planning_views.series, name="series"),
    path("series/<int:pk>/again/", planning_views.series_again, name="series_again"),
    path("times/", slot_views.index, name="slots"),
    path("times/<int:pk>/withdraw/", slot_views.withdraw, name="withdraw_slot"),
    path("times/<int:pk>/choose/", slot_views.choose, name="choose_slot"),
    path("week/<int:pk>/said/", planning_views.note_said, name="note_said"),
    path("week/", planning_views.week_note, name="week_note"),
    path("calendar/", planning_views.calendar_address, name="calendar_address"),
    path("calendar/<str:key>.ics", planning_views.calendar, name="calendar"),
]
