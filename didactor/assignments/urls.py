from django.urls import path

from didactor.assignments import views

app_name = "assignments"
urlpatterns = [
    path("", views.index, name="index"),
    path("new/", views.create, name="create"),
    path("new/parts/", views.parts_fragment, name="parts_fragment"),
    path("<int:pk>/", views.detail, name="detail"),
    path("<int:pk>/progress/", views.progress_fragment, name="progress_fragment"),
    path("parts/<int:pk>/", views.part, name="part"),
    path("stand/", views.stand, name="stand"),
    path("stand/<int:pk>/", views.task, name="task"),
    path("stand/<int:pk>/study/", views.study, name="study"),
]
